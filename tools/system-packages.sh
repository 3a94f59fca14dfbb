#!/bin/sh
# Installs the Debian packages that are missing. Arguments: demo (PostgreSQL) or test (also a browser and fonts).
set -eu
wanted=""
[ -n "$(ls /usr/lib/postgresql/*/bin/initdb 2>/dev/null || command -v initdb || true)" ] || wanted="$wanted postgresql"
if [ "${1:-demo}" = test ]; then
    command -v chromium >/dev/null || wanted="$wanted chromium"
    [ -d /usr/share/fonts/truetype/dejavu ] || wanted="$wanted fonts-dejavu-core"
    [ -d /usr/share/fonts/truetype/noto ] || wanted="$wanted fonts-noto-core"
fi
[ -n "$wanted" ] || exit 0
sudo=""
[ "$(id -u)" = 0 ] || sudo="sudo"
echo "Installing:$wanted"
$sudo apt-get update -q
# shellcheck disable=SC2086 -- several packages in one variable
$sudo env DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends $wanted
