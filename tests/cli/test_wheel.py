"""What an administrator installs: a wheel with the front end in it, on a machine without Node."""

from __future__ import annotations

import json
import os
import re
import shutil
import site
import subprocess
import sys
import time
import urllib.request
import venv
import zipfile
from pathlib import Path

from openmeadow.demo.ports import free_port

ROOT = Path(__file__).parents[2]
CONTAINER = (ROOT / "deploy/Containerfile").read_text()


def test_a_wheel_runs_in_an_environment_of_its_own(tmp_path: Path) -> None:
    source = tmp_path / "source"
    source.mkdir()
    for part in ("openmeadow", "requirements"):
        shutil.copytree(ROOT / part, source / part, ignore=shutil.ignore_patterns("__pycache__"))
    for part in ("pyproject.toml", "LICENSE"):
        shutil.copy(ROOT / part, source)
    pip = [sys.executable, "-m", "pip", "--disable-pip-version-check", "--quiet"]
    made = tmp_path / "made"
    for copied in re.findall(r"^COPY (?!--from)(.+) \S+$", CONTAINER, re.M):
        assert all((ROOT / part).exists() for part in copied.split()), copied
    outside = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}  # nothing of this folder is there already
    build = [*pip, "wheel", "--no-deps", "--no-build-isolation", "-w", str(made), str(source)]
    subprocess.run(build, check=True, cwd=tmp_path, env=outside)
    (wheel,) = made.glob("open_meadow-*.whl")
    names = zipfile.ZipFile(wheel).namelist()
    assert "openmeadow/web/dist/index.html" in names and any(n.endswith("0001_ground.sql") for n in names)
    assert not any(n.startswith(("tests/", "bench/")) for n in names)
    venv.create(tmp_path / "env", with_pip=False)
    python = tmp_path / "env/bin/python"
    install = [*pip, "--python", str(python), "install", "--no-deps", str(wheel)]
    subprocess.run(install, check=True, cwd=tmp_path, env=outside)
    # its dependencies are those installed here; the package itself is the wheel's
    libraries = tmp_path / "libraries"
    libraries.mkdir()
    for folder in site.getsitepackages():
        for item in Path(folder).iterdir():
            if "meadow" not in item.name and item.suffix != ".pth":
                (libraries / item.name).symlink_to(item)
    env = {"PATH": os.defpath, "PYTHONPATH": str(libraries), "HOME": str(tmp_path)}
    meadow, data, port = str(tmp_path / "env/bin/meadow"), str(tmp_path / "data"), free_port()
    where = [str(python), "-c", "import openmeadow; print(openmeadow.__file__)"]
    found = subprocess.run(where, env=env, cwd=tmp_path, check=True, capture_output=True, text=True).stdout
    assert found.startswith(str(tmp_path / "env")), found
    subprocess.run([meadow, "--data", data, "init"], env=env, cwd=tmp_path, check=True, capture_output=True)
    serve = subprocess.Popen([meadow, "--data", data, "serve", "--port", str(port)], env=env, cwd=tmp_path)
    worker = subprocess.Popen([meadow, "--data", data, "worker"], env=env, cwd=tmp_path)
    try:
        page = ""
        for _ in range(150):
            try:
                with urllib.request.urlopen(f"http://127.0.0.1:{port}/", timeout=5) as answer:
                    page = answer.read().decode()
                break
            except OSError:
                time.sleep(0.2)
        assert "<title>Open Meadow" in page and "/assets/" in page
        assert worker.poll() is None
        (check,) = re.findall(r"^HEALTHCHECK .* CMD (\[.*\])$", CONTAINER, re.M)
        command = [str(python), *json.loads(check)[1:-1], json.loads(check)[-1].replace("8080", str(port))]
        subprocess.run(command, env=env, check=True)
        (entry,), (usual,) = (re.findall(rf"^{word} (\[.*\])$", CONTAINER, re.M) for word in ("ENTRYPOINT", "CMD"))
        asked = [meadow, *json.loads(entry)[1:-1], data, *json.loads(usual), "--help"]
        assert subprocess.run(asked, env=env, check=True, capture_output=True, text=True).stdout.startswith("Usage")
    finally:
        for process in (serve, worker):
            process.terminate()
            assert process.wait(20) == 0
