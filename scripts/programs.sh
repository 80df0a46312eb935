#!/bin/sh
# Programs of the system that the tests need, by their Debian packages; installs them where that is possible.
#   scripts/programs.sh chromium nginx [promtool]
PATH="$PATH:/usr/sbin:/sbin"
missing=""
for program in "$@"; do
  command -v "$program" >/dev/null && continue
  case "$program" in
    nginx) missing="$missing nginx-light" ;;
    promtool) missing="$missing prometheus" ;;
    *) missing="$missing $program" ;;
  esac
done
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ]; then sudo=""; else sudo="sudo"; fi
if command -v apt-get >/dev/null && { [ -z "$sudo" ] || command -v sudo >/dev/null; }; then
  # shellcheck disable=SC2086
  $sudo apt-get update -qq \
    && $sudo env DEBIAN_FRONTEND=noninteractive RUNLEVEL=1 apt-get install -y -qq --no-install-recommends $missing >/dev/null \
    && exit 0
fi
echo "The tests need$missing: install these packages." >&2
exit 1
