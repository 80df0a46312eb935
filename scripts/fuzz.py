"""Throws made-up requests at the whole API for some minutes, as an analyst and as a writer, by its own description.

Nothing may answer with 5xx, keep silent for five seconds, or answer otherwise than described. Run by ``make fuzz``.
"""

from __future__ import annotations

import http.cookiejar
import json
import subprocess
import sys
import tempfile
import urllib.request
from pathlib import Path

from openmeadow.demo import build, ports, run
from openmeadow.services import accounts
from openmeadow.services.workspace import Workspace
from openmeadow.web.router import COOKIE, CSRF_HEADER

PASSWORD = "evenings by the water"
PEOPLE, SLOWEST = 2_000, 5  # of the demo; seconds that an answer may take
TOOL = Path("build/fuzz/bin/schemathesis").resolve()
CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"
# what would end the session that asks, or send the whole day on
LEFT_OUT = (
    *("/api/sign-in", "/api/sign-out", "/api/set-password", "/api/clock", "/api/me/password", "/api/me/second-factor"),
    *("/api/me/sessions", "/api/accounts/{id}", "/api/accounts/{id}/role", "/api/accounts/{id}/sessions"),
)


def session(url: str, name: str, token: str, config: Path) -> list[str]:
    """What makes the tool somebody who is signed in."""
    jar = http.cookiejar.CookieJar()
    web = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    body = json.dumps({"name": name, "password": PASSWORD}).encode()
    web.open(urllib.request.Request(f"{url}/api/sign-in", body, {"Content-Type": "application/json"})).read()
    csrf = json.load(web.open(f"{url}/api/me"))["csrf"]
    cookie = next(c.value for c in jar if c.name == COOKIE)
    config.write_text(f'[auth.openapi.session]\napi_key = "{cookie}"\n[auth.openapi.token]\nbearer = "{token}"\n')
    return ["-H", f"{CSRF_HEADER}: {csrf}"]


def main(minutes: float) -> int:
    with tempfile.TemporaryDirectory() as where:
        folder = Path(where) / "data"
        build.build(folder, PEOPLE)
        workspace = Workspace(folder)
        tokens = {}
        for role in ("analyst", "writer"):
            id = accounts.add(workspace, role, role, PASSWORD)
            tokens[role] = accounts.new_token(workspace, id, "fuzz", "all")
        workspace.close()
        running = run.Demo(folder, ports.free_port())
        try:
            running.wait_ready()
            worst = 0
            for role in ("analyst", "writer"):
                config = Path(where) / f"{role}.toml"
                signed_in = session(running.url, role, tokens[role], config)
                arguments = [
                    str(TOOL),
                    "--config-file",
                    str(config),
                    "run",
                    f"{running.url}/api/openapi.json",
                    "--checks",
                    CHECKS,
                    "--no-color",
                ]
                arguments += ["--max-time", str(int(minutes * 30)), "--request-timeout", str(SLOWEST), "--workers", "2"]
                arguments += ["--continue-on-failure", "--phases", "examples,coverage,fuzzing", *signed_in]
                for path in LEFT_OUT:
                    arguments += ["--exclude-path", path]
                print(f"As {role}:", flush=True)
                worst = max(worst, subprocess.run(arguments, check=False, cwd=where).returncode)
            return worst
        finally:
            running.stop()


if __name__ == "__main__":
    raise SystemExit(main(float(sys.argv[1]) if len(sys.argv) > 1 else 10))
