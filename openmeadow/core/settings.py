"""The settings of a workspace: each with its type, range, default and a line of help, once; the command line and the
page read the same rows."""

from __future__ import annotations

import ipaddress
import json
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any
from zoneinfo import available_timezones

from openmeadow.core.addresses.aliases import alias_rules
from openmeadow.core.addresses.syntax import syntax_problem
from openmeadow.core.delivery.guardrails import LIMITS
from openmeadow.core.message.links import parameters_problem

LONGEST_TEXT, LONGEST_LIST = 1_000, 200
TLS_MODES = ("starttls", "tls", "opportunistic", "none")
_HOST = re.compile(r"[A-Za-z0-9_](?:[A-Za-z0-9_.-]{0,252})|\[?[0-9A-Fa-f:.]{2,45}\]?")
_WEB = re.compile(r"https?://(?:[A-Za-z0-9_.-]{1,253}|\[[0-9A-Fa-f:.]{2,45}\])(?::\d{1,5})?(?:/[!-~]*)?")
_HOURS = re.compile(r"(\d{1,2})-(\d{1,2})")
_CURRENCY = re.compile(r"[A-Z]{3}")


Value = Any  # what a setting holds: JSON, of the kind that its row says and checks


def _nothing(_: Value) -> str:
    return ""


@dataclass(frozen=True)
class Setting:
    """``kind`` is text, number, switch, choice, list, object or secret; ``problem`` gives a sentence for a value that
    is of the right kind but cannot be taken, "" for one that can. ``weakens``
    tells of the old and the new value whether the change takes a protection away."""

    name: str
    group: str
    label: str
    kind: str
    default: Value
    help: str
    low: float | None = None
    high: float | None = None
    choices: tuple[str, ...] = ()
    unit: str = ""
    problem: Callable[[Value], str] = field(default=_nothing, repr=False)
    usual: Value = None  # what holds for the parts that an object leaves out
    weakens: Callable[[Value, Value], bool] = field(default=lambda old, new: False, repr=False)

    @property
    def range(self) -> str:
        """What can be written, in words."""
        if self.kind == "number":
            return f"{self.low:g} to {self.high:g}{f' {self.unit}' if self.unit else ''}"
        if self.kind == "switch":
            return "true or false"
        if self.kind == "choice":
            return ", ".join(self.choices)
        return {"list": "a list", "object": "a JSON object", "secret": "text, never shown again"}.get(self.kind, "text")


def _zone(value: str) -> str:
    return "" if value in available_timezones() else f"“{value}” is not a time zone; write one like Europe/Lisbon or UTC."


def _url(value: str) -> str:
    good = _WEB.fullmatch(value) is not None
    return "" if good else f"“{value[:80]}” is not a web address; write it like https://mail.kestrelquay.example."


def _maybe(problem: Callable[[str], str]) -> Callable[[str], str]:
    return lambda value: problem(value) if value else ""


def _host(value: str) -> str:
    return "" if _HOST.fullmatch(value) else f"“{value[:80]}” is not a host name or address."


def _resolver(value: str) -> str:
    host, sign, port = value.rpartition(":")
    good = (
        bool(_HOST.fullmatch(host)) and port.isdigit() and 0 < int(port) < 65_536
        if sign
        else bool(_HOST.fullmatch(value))
    )
    return "" if good else f"“{value[:80]}” is not HOST:PORT, such as 192.0.2.53:53."


def _hours(value: str) -> str:
    found = _HOURS.fullmatch(value)
    good = found is not None and int(found[1]) < 24 and int(found[2]) <= 24
    return "" if good else f"“{value[:40]}” is not a range of hours; write it like 22-7."


def _currency(value: str) -> str:
    return (
        "" if _CURRENCY.fullmatch(value) else f"“{value[:20]}” is not a currency; use its three letters, for example EUR."
    )


def _ip(value: str) -> str:
    try:
        ipaddress.ip_address(value)
    except ValueError:
        return f"“{value[:60]}” is not an IP address."
    return ""


def _address(value: str) -> str:
    problem = syntax_problem(value)
    return f"“{value[:80]}” is not an address: {problem}." if problem else ""


def _each(problem: Callable[[str], str]) -> Callable[[list[Value]], str]:
    def check(values: list[Value]) -> str:
        if len(values) > LONGEST_LIST:
            return f"At most {LONGEST_LIST} can be listed."
        for v in values:
            if not isinstance(v, str):
                return f"Each entry of the list is text; {json.dumps(v)[:60]} is not."
            if found := problem(v):
                return found
        return ""

    return check


def _limits(value: Mapping[str, Value]) -> str:
    for name, limit in value.items():
        if name not in LIMITS:
            return f"“{name[:40]}” is not a guardrail; use one of {', '.join(LIMITS)}."
        if isinstance(limit, bool) or not isinstance(limit, int | float) or not 0 < limit < 1:
            return f"The limit of {name} is a share between 0 and 1, such as {LIMITS[name]:g}."
    return ""


def _aliases(value: Mapping[str, Value]) -> str:
    try:
        alias_rules(value)
    except ValueError as e:
        return str(e)
    return ""


def _boxes(value: list[Value]) -> str:
    keys = ("provider", "address", "listing")
    good = all(isinstance(v, dict) and all(isinstance(v.get(k), str) for k in keys) for v in value)
    return "" if good else 'Each seed mailbox is written like {"provider": …, "address": …, "listing": "https://…"}.'


def _layout(value: Mapping[str, Value]) -> str:
    return "" if all(isinstance(k, str) for k in value) else "The layout is an object of texts."


WORKSPACE, RELAY, INTAKE, TRACKING = "Workspace", "Relay", "Intake", "Tracking"
LIMITS_OF, ENGAGEMENT, RETENTION, ALERTS, OUTSIDE = (
    "Limits and approval",
    "Engagement",
    "Retention",
    "Alerts",
    "Outside services",
)


def _port(name: str, group: str, label: str, default: int, help_text: str) -> Setting:
    return Setting(name, group, label, "number", default, help_text, low=1, high=65_535)


_ROWS: tuple[Setting, ...] = (
    Setting("name", WORKSPACE, "Name", "text", "Workspace", "The organisation, as subscribers know it."),
    Setting("postal_address", WORKSPACE, "Postal address", "text", "", "Shown in the footer of every marketing message."),
    Setting(
        "time_zone", WORKSPACE, "Time zone", "text", "UTC", "Times are shown and scheduled in this zone.", problem=_zone
    ),
    Setting("currency", WORKSPACE, "Currency", "text", "EUR", "The currency of bookings.", problem=_currency),
    Setting(
        "public_url",
        WORKSPACE,
        "Public address",
        "text",
        "http://127.0.0.1:8080",
        "Links in messages lead here; one-click unsubscribe needs https.",
        problem=_url,
    ),
    Setting("relay_host", RELAY, "Host", "text", "127.0.0.1", "The SMTP relay that sends our mail.", problem=_host),
    _port("relay_port", RELAY, "Port", 2525, "Mostly 587 (STARTTLS) or 465 (TLS)."),
    Setting("relay_user", RELAY, "User", "text", "", "Empty if the relay needs no sign-in."),
    Setting(
        "relay_password",
        RELAY,
        "Password",
        "secret",
        "",
        "The file named by MEADOW_RELAY_PASSWORD_FILE takes precedence.",
    ),
    Setting(
        "relay_tls",
        RELAY,
        "TLS",
        "choice",
        "",
        "Empty: STARTTLS, required and verified, for any host but loopback.",
        choices=("", *TLS_MODES),
        weakens=lambda old, new: new in ("opportunistic", "none") and old not in ("opportunistic", "none"),
    ),
    Setting("relay_ca", RELAY, "Certificates", "text", "", "A file of certificates to trust; empty for the system's."),
    Setting("relay_helo", RELAY, "HELO name", "text", "", "Empty: the intake's name.", problem=_maybe(_host)),
    Setting(
        "relay_ips",
        RELAY,
        "Relay addresses",
        "list",
        [],
        "The addresses it sends from; used for the SPF check.",
        problem=_each(_ip),
    ),
    Setting("connections", RELAY, "Connections", "number", 4, "Most connections at the same time.", low=1, high=64),
    Setting(
        "intake_host",
        INTAKE,
        "Listens at",
        "text",
        "127.0.0.1",
        "Where the server listens for bounces and complaints.",
        problem=_host,
    ),
    _port("intake_port", INTAKE, "Port", 2526, "Your mail server forwards to this port."),
    Setting("intake_name", INTAKE, "Name", "text", "", "The MX of the return domain.", problem=_maybe(_host)),
    Setting(
        "return_domain",
        INTAKE,
        "Return domain",
        "text",
        "",
        "Empty: bounce. before each sending domain.",
        problem=_maybe(_host),
    ),
    Setting(
        "track_opens", TRACKING, "Track opens and clicks", "switch", True, "Off: scores use bookings and replies only."
    ),
    Setting("hidden_link", TRACKING, "Hidden link", "switch", True, "Detects machines that follow every link."),
    Setting(
        "link_parameters",
        TRACKING,
        "Parameters added to links",
        "text",
        "",
        "For your web statistics, added when a tracked link is clicked: utm_source=newsletter&utm_campaign={campaign}",
        problem=_maybe(parameters_problem),
    ),
    Setting(
        "conversion_id",
        TRACKING,
        "Tracking ID for bookings",
        "switch",
        False,
        "Adds an ID to links so that your shop can report bookings.",
    ),
    Setting("most_a_day", LIMITS_OF, "Messages a day", "number", 1, "Most messages to one person.", low=1, high=10),
    Setting("most_a_week", LIMITS_OF, "Messages in 7 days", "number", 3, "Most messages to one person.", low=1, high=50),
    Setting(
        "require_address_check",
        LIMITS_OF,
        "Checked addresses only",
        "switch",
        False,
        "Require an address check before the first email.",
    ),
    Setting(
        "require_approval",
        LIMITS_OF,
        "Approval",
        "switch",
        False,
        "Another analyst must approve a campaign before it starts.",
        weakens=lambda old, new: bool(old) and not new,
    ),
    Setting(
        "guardrails",
        LIMITS_OF,
        "Guardrails",
        "object",
        {},
        "A campaign is paused above these limits; others keep their default.",
        problem=_limits,
        usual=dict(LIMITS),
        weakens=lambda old, new: any(new.get(k, v) > old.get(k, v) for k, v in LIMITS.items()),
    ),
    Setting(
        "inactive_after_days",
        ENGAGEMENT,
        "Inactive after",
        "number",
        0,
        "Days without engagement before someone is inactive; 0: based on how often you send.",
        low=0,
        high=730,
        unit="days",
    ),
    Setting(
        "strong_from",
        ENGAGEMENT,
        "Strong from",
        "number",
        40,
        "The score from which someone who engaged with three messages is Strong.",
        low=1,
        high=100,
    ),
    Setting(
        "steady_from",
        ENGAGEMENT,
        "Steady from",
        "number",
        12,
        "The score from which someone is Steady; below it they are Fading.",
        low=0,
        high=100,
    ),
    Setting(
        "exports_kept_days",
        RETENTION,
        "Exports",
        "number",
        14,
        "Exported files are deleted after this many days.",
        low=1,
        high=365,
        unit="days",
    ),
    Setting(
        "raw_mail_kept_days",
        RETENTION,
        "Returned mail",
        "number",
        30,
        "The text of bounces and complaints is deleted after this many days.",
        low=1,
        high=365,
        unit="days",
    ),
    Setting("alert_to", ALERTS, "Email recipients", "list", [], "Who receives alerts.", problem=_each(_address)),
    Setting("alert_url", ALERTS, "Webhook URL", "text", "", "A JSON document is posted to it.", problem=_maybe(_url)),
    Setting("quiet_hours", ALERTS, "Quiet hours", "text", "", "No alerts within, such as 22-7.", problem=_maybe(_hours)),
    Setting(
        "report_to",
        ALERTS,
        "Weekly report",
        "list",
        [],
        "Who receives the week's campaigns by email, on Monday at 8.",
        problem=_each(_address),
    ),
    Setting("resolver", OUTSIDE, "DNS server", "text", "", "HOST:PORT; empty: the system's.", problem=_maybe(_resolver)),
    Setting(
        "block_lists",
        OUTSIDE,
        "Block lists",
        "list",
        [],
        "DNS block lists to check our addresses against (RFC 5782).",
        problem=_each(_host),
    ),
    _port("mail_port", OUTSIDE, "Port of mail servers", 25, "Address checks connect to mail servers on this port."),
    Setting(
        "freemail_domains",
        OUTSIDE,
        "More freemail domains",
        "list",
        [],
        "Rejected as sending domains.",
        problem=_each(_host),
    ),
    Setting(
        "alias_rules",
        OUTSIDE,
        "Alias rules",
        "object",
        {},
        "What mail servers ignore before the @, by domain.",
        problem=_aliases,
    ),
    Setting(
        "web_gateway",
        OUTSIDE,
        "Web gateway",
        "text",
        "",
        "Links of messages are checked through it.",
        problem=_maybe(_url),
    ),
    Setting(
        "inside_hosts",
        OUTSIDE,
        "Inside hosts",
        "list",
        [],
        "Hosts on your own network that webhooks, seed mailboxes and link checks may reach.",
        problem=_each(_host),
        weakens=lambda old, new: bool(set(new) - set(old)),
    ),
    Setting(
        "metrics_token",
        OUTSIDE,
        "Metrics token",
        "secret",
        "",
        "Lets another machine read /metrics; from this machine it needs none.",
    ),
    Setting("seed_mailboxes", OUTSIDE, "Seed mailboxes", "list", [], "For placement tests.", problem=_boxes),
    Setting(
        "layout",
        OUTSIDE,
        "Layout",
        "object",
        {},
        "Header and footer of messages; edited under Campaigns.",
        problem=_layout,
    ),
)
SETTINGS: dict[str, Setting] = {s.name: s for s in _ROWS}
GROUPS: tuple[str, ...] = tuple(dict.fromkeys(s.group for s in _ROWS))


def parsed(setting: Setting, text: str) -> Value:
    """The value that a text on the command line means; ValueError with a sentence where it means none."""
    if setting.kind in ("text", "choice", "secret"):
        return text
    try:
        value = json.loads(text)
    except ValueError:
        value = text
    if isinstance(value, str):
        if setting.kind == "switch" and value.lower() in ("yes", "on", "no", "off"):
            return value.lower() in ("yes", "on")
        if setting.kind == "list":
            return [part.strip() for part in value.split(",") if part.strip()]
    return value


def checked(setting: Setting, value: Value) -> Value:
    """The value as it is kept; ValueError with a sentence where it cannot be taken."""
    kinds: dict[str, type | tuple[type, ...]] = {
        "text": str,
        "choice": str,
        "secret": str,
        "switch": bool,
        "list": list,
        "object": dict,
        "number": int,
    }
    if not isinstance(value, kinds[setting.kind]) or (setting.kind == "number" and isinstance(value, bool)):
        raise ValueError(f"{setting.name} is {setting.range}; it is written like {json.dumps(setting.default)}.")
    if isinstance(value, str):
        value = value.strip()
        if len(value) > LONGEST_TEXT:
            raise ValueError(f"{setting.name} has at most {LONGEST_TEXT:,} characters.")
        if any(ord(c) < 32 and c != "\n" for c in value):
            raise ValueError(f"{setting.name} contains a character that cannot be printed.")
    if setting.kind == "choice" and value not in setting.choices:
        raise ValueError(f"{setting.name} is one of {', '.join(c for c in setting.choices if c)}; empty for the default.")
    if setting.kind == "number" and not (setting.low or 0) <= value <= (setting.high or 0):
        raise ValueError(f"{setting.name} goes from {setting.range}.")
    if found := setting.problem(value):
        raise ValueError(f"{setting.name}: {found}")
    return value


def shown(setting: Setting, value: Value) -> Value:
    """The value as it may be seen: a secret only says whether it is set."""
    return ("set" if value else "") if setting.kind == "secret" else value
