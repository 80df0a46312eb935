"""A DNS server for zone files (RFC 1035 master format) in a folder, on loopback, over UDP and TCP.

Files are read again when they change. Dynamic updates (RFC 2136) are taken and written back to the file, so
that a record can be published the way a real name server would let it be.
"""

from __future__ import annotations

import socketserver
import struct
import threading
from pathlib import Path

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.opcode
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.update
import dns.zone

_TIMES = dict[Path, float]
TRIES = 20


class Zones:
    """The zones of a folder; ``*.zone`` names its origin by its file name."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._zones: dict[dns.name.Name, dns.zone.Zone] = {}
        self._times: _TIMES = {}
        self._guard = threading.RLock()

    def _fresh(self) -> dict[dns.name.Name, dns.zone.Zone]:
        for path in self.folder.glob("*.zone"):
            changed = path.stat().st_mtime_ns
            if self._times.get(path) != changed:
                origin = dns.name.from_text(path.stem + ".")
                try:
                    self._zones[origin] = dns.zone.from_file(str(path), origin, relativize=False, check_origin=False)
                except dns.exception.DNSException:
                    self._zones.pop(origin, None)
                self._times[path] = changed
        return self._zones

    def of(self, name: dns.name.Name) -> dns.zone.Zone | None:
        zones = self._fresh()
        while name != dns.name.root:
            if name in zones:
                return zones[name]
            name = name.parent()
        return None

    def answer(self, query: dns.message.Message) -> dns.message.Message:
        with self._guard:
            if query.opcode() == dns.opcode.UPDATE:
                return self._update(query)
            response = dns.message.make_response(query)
            if not query.question:
                response.set_rcode(dns.rcode.FORMERR)
                return response
            question = query.question[0]
            zone = self.of(question.name)
            if zone is None:
                response.set_rcode(dns.rcode.NXDOMAIN)
                return response
            response.flags |= dns.flags.AA
            name = question.name
            for _ in range(8):
                node = zone.get_node(name)
                if node is None:
                    response.set_rcode(dns.rcode.NXDOMAIN)
                    break
                found = node.get_rdataset(dns.rdataclass.IN, question.rdtype)
                alias = node.get_rdataset(dns.rdataclass.IN, dns.rdatatype.CNAME)
                chosen = found or alias
                if chosen is not None:
                    rrset = response.find_rrset(response.answer, name, dns.rdataclass.IN, chosen.rdtype, create=True)
                    rrset.update(chosen)  # type: ignore[no-untyped-call]
                if found is not None or alias is None:
                    break
                name = alias[0].target
                zone = self.of(name) or zone
            return response

    def _update(self, query: dns.message.Message) -> dns.message.Message:
        response = dns.message.make_response(query)
        if not isinstance(query, dns.update.UpdateMessage):
            response.set_rcode(dns.rcode.NOTIMP)
            return response
        origin = query.zone[0].name
        zone = self._fresh().get(origin)
        if zone is None:
            response.set_rcode(dns.rcode.NOTAUTH)
            return response
        for rrset in query.update:
            if rrset.rdclass == dns.rdataclass.ANY:
                zone.delete_rdataset(rrset.name, rrset.rdtype)
            elif rrset.rdclass == dns.rdataclass.IN:
                zone.find_rdataset(rrset.name, rrset.rdtype, create=True).update(rrset)  # type: ignore[no-untyped-call]
        zone.to_file(str(self.folder / f"{origin.to_text(omit_final_dot=True)}.zone"), relativize=False)
        return response

    def answer_wire(self, wire: bytes) -> bytes | None:
        try:
            query = dns.message.from_wire(wire)
        except dns.exception.DNSException:
            return None
        return self.answer(query).to_wire(max_size=65535)


class DnsServer:
    """Listens on UDP and TCP of one port until ``close``."""

    def __init__(self, folder: Path, port: int = 0, host: str = "127.0.0.1") -> None:
        zones = Zones(folder)

        class Udp(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                reply = zones.answer_wire(self.request[0])
                if reply:
                    if len(reply) > 1232:
                        short = dns.message.make_response(dns.message.from_wire(self.request[0]))
                        short.flags |= dns.flags.TC
                        reply = short.to_wire()
                    self.request[1].sendto(reply, self.client_address)

        class Tcp(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                head = self.rfile.read(2)
                if len(head) == 2 and (reply := zones.answer_wire(self.rfile.read(struct.unpack("!H", head)[0]))):
                    self.wfile.write(struct.pack("!H", len(reply)) + reply)

        socketserver.ThreadingTCPServer.allow_reuse_address = True
        for attempt in range(TRIES):
            self._udp = socketserver.ThreadingUDPServer((host, port), Udp)
            self.port = self._udp.server_address[1]
            try:
                self._tcp = socketserver.ThreadingTCPServer((host, self.port), Tcp)
                break
            except OSError:  # the port is free for UDP and taken for TCP; another one then, if any will do
                self._udp.server_close()
                if port or attempt == TRIES - 1:
                    raise
        for server in (self._udp, self._tcp):
            server.daemon_threads = True
            threading.Thread(target=server.serve_forever, daemon=True).start()

    def close(self) -> None:
        for server in (self._udp, self._tcp):
            server.shutdown()
            server.server_close()
