"""Everything that must be set before a first real send: each pass, warning or fail, with what to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from openmeadow.core.errors import MeadowError
from openmeadow.core.settings import SETTINGS as SETTINGS_OF
from openmeadow.net.smtp_client import is_loopback
from openmeadow.services.campaigns import outgoing
from openmeadow.services.senders import relay
from openmeadow.services.subscribers import consent
from openmeadow.services.today import process_watch
from openmeadow.services.workspace import Workspace
from openmeadow.store import settings
from openmeadow.store.senders import senders
from openmeadow.store.subscribers import subscribers

PASS, WARNING, FAIL = "pass", "warning", "fail"
SETTINGS, RELAY_SETTINGS = "/settings", "/settings/relay"


@dataclass(frozen=True)
class WorkspaceFinding:
    """``remedy`` is "" where nothing needs doing."""

    check: str
    state: str
    finding: str
    remedy: str = ""
    link: str = ""  # the page where it is fixed


def _database(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    wrong = workspace.store.damage()
    if wrong:
        yield WorkspaceFinding(
            "Database", FAIL, f"The file is damaged: {wrong}", "Restore a backup: meadow restore FILE.tar"
        )
        return
    yield WorkspaceFinding("Database", PASS, "Its pages and indexes are whole.")
    evidence = consent.check_evidence(workspace)
    if evidence.verified:
        yield WorkspaceFinding("Consent", PASS, f"{evidence.entries:,} entries verified.")
    else:
        finding = f"Verification failed at entry {evidence.broken_at:,}: {evidence.what}"
        yield WorkspaceFinding(
            "Consent", FAIL, finding, "Restore a backup with its consent.key, or find out who changed it."
        )


def _settings(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    s = settings.settings(workspace.store.read())
    named = s["name"] != settings.DEFAULTS["name"]
    finding = f"“{s['name']}”." if named else f"The workspace is still called “{s['name']}”."
    yield WorkspaceFinding(
        "Name", PASS if named else WARNING, finding, "" if named else 'meadow set name "Kestrel Quay"', SETTINGS
    )
    postal = bool(s["postal_address"])
    finding = "It is in the footer of every message." if postal else "No postal address is set; marketing mail needs one."
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


def _relay(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    found = relay.check(workspace)
    state = {"pass": PASS, "fail": FAIL, "unknown": WARNING}[found.state]
    if state == PASS and not found.version and not is_loopback(found.host):
        state = WARNING
    yield WorkspaceFinding("Relay", state, found.meaning, "" if state == PASS else "meadow check relay says more.")


def _senders(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    domains = senders.domains(workspace.store.read())
    if not domains:
        yield WorkspaceFinding("Sender", FAIL, "No sending domain has been added.", "Add one under Senders.", "/senders")
        return
    for d in domains:
        state = {"pass": PASS, "warning": WARNING}.get(d.state, FAIL if d.state == "fail" else WARNING)
        remedy = "" if state == PASS else f"See its records under Senders, or meadow check domain {d.name}"
        yield WorkspaceFinding("Sender", state, f"{d.name}: {d.state}.", remedy, f"/senders/{d.id}")
    ready = senders.ready_address(workspace.store.read())
    finding = "At least one is confirmed." if ready is not None else "No from address is confirmed."
    remedy = "" if ready is not None else "Add one under Senders and click the link we send to it."
    yield WorkspaceFinding("From address", PASS if ready is not None else FAIL, finding, remedy, "/senders")


def _processes(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    silent = process_watch.worker_silent(workspace)
    if silent is None:
        yield WorkspaceFinding("Worker", PASS, "It reports.")
    else:
        yield WorkspaceFinding("Worker", WARNING, process_watch.silence(silent), "Start meadow worker.")
    if outgoing.is_paused(workspace):
        finding = "All sending is paused after a restore."
        yield WorkspaceFinding("Outgoing", WARNING, finding, "Today shows what may have been sent; resume there.")


def _relay_named(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    """Whether a relay is set and taking mail, as far as is known without asking it."""
    s, gone = settings.settings(workspace.store.read()), relay.away(workspace)
    if gone is not None:
        yield WorkspaceFinding("Relay", FAIL, gone.meaning, "See Senders, Relay.", "/senders/relay")
    elif (s["relay_host"], s["relay_port"]) == (SETTINGS_OF["relay_host"].default, SETTINGS_OF["relay_port"].default):
        finding = "No relay is set; mail would be sent to this machine."
        yield WorkspaceFinding("Relay", WARNING, finding, "meadow set relay_host …", RELAY_SETTINGS)
    else:
        yield WorkspaceFinding("Relay", PASS, f"{s['relay_host']} port {s['relay_port']}.", "", "/senders/relay")


def _people(workspace: Workspace) -> Iterator[WorkspaceFinding]:
    n = subscribers.count(workspace.store.read())
    finding = f"{n:,} subscribers." if n else "No subscribers have been imported yet."
    yield WorkspaceFinding(
        "Subscribers", PASS if n else FAIL, finding, "" if n else "meadow import subscribers FILE", "/subscribers/import"
    )


PARTS: tuple[Callable[[Workspace], Iterator[WorkspaceFinding]], ...] = (
    _database,
    _settings,
    _relay,
    _senders,
    _processes,
)


def check(workspace: Workspace) -> list[WorkspaceFinding]:
    """All findings, in the order in which one would set a workspace up. A part that cannot be read fails by itself."""
    out: list[WorkspaceFinding] = []
    for part in PARTS:
        try:
            out += part(workspace)
        except MeadowError as e:
            out.append(WorkspaceFinding(part.__name__.strip("_").capitalize(), FAIL, str(e), "See the message."))
        if out and out[0].state == FAIL:
            break  # nothing that a damaged database says can be trusted
    return out


FIRST: tuple[Callable[[Workspace], Iterator[WorkspaceFinding]], ...] = (
    _people,
    _settings,
    _relay_named,
    _senders,
    _processes,
)


def quick(workspace: Workspace) -> list[WorkspaceFinding]:
    """The same without asking anybody outside and without reading everything: for a page."""
    return [finding for part in FIRST for finding in part(workspace)]
