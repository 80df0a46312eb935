#!/bin/sh
# Says what is missing on this machine, and what to install.
missing=0
say() { echo "$1" >&2; missing=1; }
python=$(command -v python3.11 || command -v python3) || python=""
if [ -z "$python" ] || ! "$python" -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
  say "Python 3.11 or newer is needed: install python3.11 and python3.11-venv."
elif ! "$python" -c 'import venv, ensurepip' 2>/dev/null; then
  say "Python's venv module is needed: install python3-venv."
fi
if ! command -v node >/dev/null || [ "$(node -p 'process.versions.node.split(".")[0]')" -lt 20 ]; then
  say "Node 20 or newer is needed: install nodejs."
fi
command -v npm >/dev/null || say "npm is needed: install npm."
exit $missing
