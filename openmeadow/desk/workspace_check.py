"""Everything that must be set before a first real send: each pass, warning or fail, with what to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from openmeadow.core.errors import MeadowError
from openmeadow.core.settings import SETTINGS as SETTINGS_OF
from openmeadow.desk import consent, outgoing, relay, watch
from openmeadow.desk.desk import Desk
from openmeadow.store import senders, subscribers, workspace
from openmeadow.wire.smtp_client import is_loopback

PASS, WARNING, FAIL = "pass", "warning", "fail"
SETTINGS, RELAY_SETTINGS = "/settings", "/settings/relay"


@dataclass(frozen=True)
class WorkspaceFinding:
    """``remedy`` is "" where nothing needs doing."""

    check: str
    state: str
    finding: str
    remedy: str = ""
    link: str = ""  # the page where it is mended


def _database(desk: Desk) -> Iterator[WorkspaceFinding]:
    wrong = desk.store.damage()
    if wrong:
        yield WorkspaceFinding(
            "Database", FAIL, f"The file is damaged: {wrong}", "Restore a backup: meadow restore FILE.tar"
        )
        return
    yield WorkspaceFinding("Database", PASS, "Its pages and indexes are whole.")
    evidence = consent.check_evidence(desk)
    if evidence["holds"]:
        yield WorkspaceFinding("Consent", PASS, f"The chain of {evidence['entries']:,} entries holds.")
    else:
        finding = f"The chain breaks at entry {evidence['broken_at']:,}: {evidence['what']}"
        yield WorkspaceFinding(
            "Consent", FAIL, finding, "Restore a backup that holds consent.key too, or find who changed it."
        )


def _settings(desk: Desk) -> Iterator[WorkspaceFinding]:
    s = workspace.settings(desk.store.read())
    named = s["name"] != workspace.DEFAULTS["name"]
    yield WorkspaceFinding(
        "Name", PASS if named else WARNING, f"“{s['name']}”.", "" if named else 'meadow set name "Kestrel Quay"', SETTINGS
    )
    postal = bool(s["postal_address"])
    finding = (
        "It stands in the footer of every message." if postal else "No postal address is set; marketing mail needs one."
    )
    yield WorkspaceFinding(
        "Postal address", PASS if postal else FAIL, finding, "" if postal else "meadow set postal_address …", SETTINGS
    )
    url = str(s["public_url"])
    secure = url.startswith("https://")
    finding = f"{url}: links lead to it." if secure else f"{url} is not https; one-click unsubscribe needs it (RFC 8058)."
    remedy = "" if secure else "Put a proxy with TLS in front, then meadow set public_url https://…"
    yield WorkspaceFinding("Public address", PASS if secure else FAIL, finding, remedy, SETTINGS)
    ips = bool(s["relay_ips"])
    finding = (
        f"{len(s['relay_ips'])} known." if ips else "The relay's own addresses are not known, so SPF cannot be checked."
    )
    yield WorkspaceFinding(
        "Relay addresses",
        PASS if ips else WARNING,
        finding,
        "" if ips else "meadow set relay_ips 192.0.2.25",
        RELAY_SETTINGS,
    )


def _relay(desk: Desk) -> Iterator[WorkspaceFinding]:
    found = relay.check(desk)
    state = {"pass": PASS, "fail": FAIL, "unknown": WARNING}[found.state]
    if state == PASS and not found.version and not is_loopback(found.host):
        state = WARNING
    yield WorkspaceFinding("Relay", state, found.meaning, "" if state == PASS else "meadow check relay says more.")


def _senders(desk: Desk) -> Iterator[WorkspaceFinding]:
    domains = senders.domains(desk.store.read())
    if not domains:
        yield WorkspaceFinding("Sender", FAIL, "No sending domain has been added.", "Add one under Senders.", "/senders")
        return
    for d in domains:
        state = {"holds": PASS, "mend": WARNING}.get(d["state"], FAIL if d["state"] == "broken" else WARNING)
        remedy = "" if state == PASS else f"See its records under Senders, or meadow check domain {d['name']}"
        yield WorkspaceFinding("Sender", state, f"{d['name']}: {d['state']}.", remedy, f"/senders/{d['id']}")
    ready = senders.ready_address(desk.store.read())
    finding = "One at least is confirmed." if ready is not None else "No from-address is confirmed."
    remedy = "" if ready is not None else "Add one under Senders and press the link mailed to it."
    yield WorkspaceFinding("From-address", PASS if ready is not None else FAIL, finding, remedy, "/senders")


def _processes(desk: Desk) -> Iterator[WorkspaceFinding]:
    silent = watch.worker_silent(desk)
    if silent is None:
        yield WorkspaceFinding("Worker", PASS, "It reports.")
    else:
        yield WorkspaceFinding("Worker", WARNING, watch.silence(silent), "Start meadow worker.")
    if outgoing.is_paused(desk):
        finding = "Everything outgoing is paused since a restore."
        yield WorkspaceFinding("Outgoing", WARNING, finding, "Today says what may have been sent; resume there.")


def _relay_named(desk: Desk) -> Iterator[WorkspaceFinding]:
    """Whether a relay is set and taking mail, as far as is known without asking it."""
    s, gone = workspace.settings(desk.store.read()), relay.away(desk)
    if gone is not None:
        yield WorkspaceFinding("Relay", FAIL, gone.meaning, "See Senders, Relay.", "/senders/relay")
    elif (s["relay_host"], s["relay_port"]) == (SETTINGS_OF["relay_host"].default, SETTINGS_OF["relay_port"].default):
        finding = "No relay is set; mail would go to this machine itself."
        yield WorkspaceFinding("Relay", WARNING, finding, "meadow set relay_host …", RELAY_SETTINGS)
    else:
        yield WorkspaceFinding("Relay", PASS, f"{s['relay_host']} port {s['relay_port']}.", "", "/senders/relay")


def _people(desk: Desk) -> Iterator[WorkspaceFinding]:
    n = subscribers.count(desk.store.read())
    finding = f"{n:,} subscribers." if n else "Nobody has been imported yet."
    yield WorkspaceFinding(
        "Subscribers",
        PASS if n else FAIL,
        finding,
        "" if n else "meadow import subscribers FILE",
        "/subscribers/bring-in",
    )


PARTS: tuple[Callable[[Desk], Iterator[WorkspaceFinding]], ...] = (_database, _settings, _relay, _senders, _processes)


def check(desk: Desk) -> list[WorkspaceFinding]:
    """All findings, in the order in which one would set a workspace up. A part that cannot be read fails by itself."""
    out: list[WorkspaceFinding] = []
    for part in PARTS:
        try:
            out += part(desk)
        except MeadowError as e:
            out.append(WorkspaceFinding(part.__name__.strip("_").capitalize(), FAIL, str(e), "See the sentence."))
        if out and out[0].state == FAIL:
            break  # nothing that a damaged database says can be trusted
    return out


FIRST: tuple[Callable[[Desk], Iterator[WorkspaceFinding]], ...] = (_people, _settings, _relay_named, _senders, _processes)


def quick(desk: Desk) -> list[WorkspaceFinding]:
    """The same without asking anybody outside and without reading everything: for a page."""
    return [finding for part in FIRST for finding in part(desk)]
