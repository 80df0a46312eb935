"""Address syntax and the form in which addresses are compared (RFC 5321, 5322, 6531)."""

from __future__ import annotations

import re

import idna

LONGEST_LOCAL = 64  # RFC 5321 4.5.3.1.1
LONGEST = 254  # RFC 5321 4.5.3.1.3 less the angle brackets
# the plain ones: dot-atom and host labels in ASCII; everything else goes to email-validator
_PLAIN = re.compile(
    r"(?=.{1,64}@)[A-Za-z0-9_+'=/!#$%&*?^`{|}~-]+(?:\.[A-Za-z0-9_+'=/!#$%&*?^`{|}~-]+)*"
    r"@(?=.{1,253}$)(?:[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?\.)+[A-Za-z](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])"
)
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


def standing_alone(*addresses: str) -> re.Pattern[str]:
    """A pattern for some addresses where they stand by themselves, and not as the end or the beginning of another one."""
    any_of = "|".join(re.escape(a) for a in addresses if a)
    return re.compile(rf"(?<![\w.+'-])(?:{any_of})(?![\w-]|\.\w)", re.I)


def is_plain(address: str) -> bool:
    """The quick path: surely valid. False means "ask the library", not "bad"."""
    return len(address) <= LONGEST and _PLAIN.fullmatch(address) is not None and "--" not in address.rpartition("@")[2]


def syntax_problem(address: str) -> str | None:
    """None when the address may exist; else why it cannot, as a short sentence."""
    if is_plain(address):
        return None
    local = address.rpartition("@")[0]
    if len(local.encode("utf-8", "surrogateescape")) > LONGEST_LOCAL:
        return "the part before the @ is longer than 64 octets"
    if "@" in address and "." not in address.rpartition("@")[2].strip("."):
        return "the domain has no dot"
    import email_validator  # large, and most addresses are plain

    try:
        email_validator.validate_email(
            address, check_deliverability=False, globally_deliverable=False, allow_quoted_local=True
        )
    except email_validator.EmailNotValidError as e:
        return str(e).rstrip(".")
    return None


def address_key(address: str) -> str:
    """The form in which two addresses are one: domain in lower case and A-labels, local part in lower case."""
    if address.isascii():
        return address.lower()
    local, _, domain = address.rpartition("@")
    try:
        domain = idna.encode(domain, uts46=True).decode()
    except idna.IDNAError:
        domain = domain.lower()
    return f"{local.casefold()}@{domain}"


def wire_form(address: str) -> tuple[str, bool]:
    """An address as it goes over the wire: its domain in A-labels (RFC 5891); and whether its local part needs SMTPUTF8
    (RFC 6531). Raises ``ValueError`` where no wire can carry it."""
    local, _, domain = address.rpartition("@")
    if not domain.isascii():
        try:
            domain = idna.encode(domain, uts46=True).decode()
        except idna.IDNAError as e:
            raise ValueError("its domain is not valid in the DNS") from e
    brackets = domain if local.startswith('"') else address
    if _CONTROL.search(address) or "<" in brackets or ">" in brackets:
        raise ValueError("it contains a character that is not allowed")
    try:
        local.encode()
    except UnicodeEncodeError as e:
        raise ValueError("it contains a character that cannot be encoded") from e
    return f"{local}@{domain}", not local.isascii()
