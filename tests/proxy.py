"""The shipped configuration of the proxy, in front of a server, with a certificate made for it."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from openmeadow.demo.ports import free_port
from tests.relays import certificate

SHIPPED = Path(__file__).parents[1] / "deploy" / "nginx.conf"
AROUND = """{user}daemon off; pid {folder}/pid; error_log {folder}/error.log; worker_processes 2;
events {{ worker_connections 1024; }}
http {{ access_log off; default_type application/octet-stream; include {folder}/site.conf;
{paths} }}
"""
KEPT = ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")  # folders it would otherwise make for the whole machine


def _site(folder: Path, server: int, ports: tuple[int, int]) -> str:
    """The shipped file with what an administrator changes in it: certificate, name, ports. Nothing else."""
    pem, key = certificate(folder)
    changes = (
        (r"127\.0\.0\.1:8080", f"127.0.0.1:{server}"),
        (r"\S+\.pem;", f"{pem};"),
        (r"\S+\.key;", f"{key};"),
        (r"mail\.kestrelquay\.example", "127.0.0.1"),
        (r"\n *listen \[::\][^\n]*", ""),
        (r"listen 80;", f"listen 127.0.0.1:{ports[0]};"),
        (r"listen 443", f"listen 127.0.0.1:{ports[1]}"),
    )
    text = SHIPPED.read_text(encoding="utf-8")
    for pattern, there in changes:
        text, done = re.subn(pattern, there, text)
        assert done, pattern
    return text


@contextmanager
def in_front_of(server: int, folder: Path) -> Iterator[tuple[str, str]]:
    """Its (https, http) addresses on this machine, while it runs in front of a server's port."""
    folder.mkdir()
    program = shutil.which("nginx") or "/usr/sbin/nginx"
    ports = free_port(), free_port()
    (folder / "site.conf").write_text(_site(folder, server, ports), encoding="utf-8")
    paths = " ".join(f"{kind}_temp_path {folder}/{kind};" for kind in KEPT)
    user = "user root;\n" if os.getuid() == 0 else ""  # the folders of the tests are their maker's alone
    whole = folder / "nginx.conf"
    whole.write_text(AROUND.format(user=user, folder=folder, paths=paths), encoding="utf-8")
    running = subprocess.Popen([program, "-c", str(whole)], stderr=subprocess.PIPE)
    try:
        for _ in range(200):
            assert running.poll() is None, running.stderr and running.stderr.read().decode()
            with socket.socket() as s:
                if s.connect_ex(("127.0.0.1", ports[1])) == 0:
                    break
            time.sleep(0.05)
        yield f"https://127.0.0.1:{ports[1]}", f"http://127.0.0.1:{ports[0]}"
    finally:
        running.terminate()
        running.communicate(timeout=20)
