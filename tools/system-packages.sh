#!/bin/sh
# Installs the Debian packages that are missing: Python with venv, PostgreSQL, slapd, and for the
# tests a browser and fonts. Argument: demo or test. It is silent about what is there.
set -eu
wanted=""
missing() { wanted="$wanted $*"; }

python3 -c 'import sys, venv, ensurepip; sys.exit(sys.version_info < (3, 11))' 2>/dev/null ||
    missing python3 python3-venv
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 || command -v initdb >/dev/null ||
    missing postgresql
# The demonstration has a directory of its own; the one that the package would set up is not wanted.
[ -x /usr/sbin/slapd ] || missing slapd
if [ "${1:-demo}" = test ]; then
    command -v chromium-headless-shell >/dev/null || missing chromium-headless-shell
    # What drives the browser is linked against it.
    ls /usr/lib/*/libatomic.so.1 >/dev/null 2>&1 || missing libatomic1
    # It judges the numbers that the service gives.
    command -v promtool >/dev/null || missing prometheus
    [ -d /usr/share/fonts/truetype/dejavu ] || missing fonts-dejavu-core
    [ -d /usr/share/fonts/truetype/noto ] || missing fonts-noto-core
fi
[ -n "$wanted" ] || exit 0

sudo=""
if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || {
        echo "These packages are missing:$wanted. Run as root: apt-get install$wanted" >&2
        exit 1
    }
    sudo="sudo"
fi
echo "Installing from Debian:$wanted"
log=$(mktemp)
# shellcheck disable=SC2086 -- several packages in one variable
if ! { echo "slapd slapd/no_configuration boolean true" | $sudo debconf-set-selections &&
    $sudo apt-get update -q &&
    $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends $wanted; } \
    >"$log" 2>&1; then
    cat "$log" >&2
    exit 1
fi
rm -f "$log"
