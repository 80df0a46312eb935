#!/bin/sh
# The browser tests need Debian's Chromium; installs it where that is possible.
command -v chromium >/dev/null && exit 0
if [ "$(id -u)" = 0 ]; then sudo=""; else sudo="sudo"; fi
if command -v apt-get >/dev/null && { [ -z "$sudo" ] || command -v sudo >/dev/null; }; then
  $sudo apt-get update -qq && $sudo apt-get install -y -qq chromium >/dev/null && exit 0
fi
echo "The browser tests need Chromium: install the package chromium." >&2
exit 1
