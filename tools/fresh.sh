#!/bin/sh
# Proves the two commands of the README in a bare Debian: debootstrap, chroot, an ordinary user
# with sudo. Needs root; takes half an hour. Arguments: Debian's release (bookworm), the folder.
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
release=${1:-bookworm}
root=${2:-/var/tmp/sortitor-fresh}
[ "$(id -u)" = 0 ] || { echo "make fresh needs root, for chroot" >&2; exit 1; }
command -v debootstrap >/dev/null || apt-get install -qy debootstrap >/dev/null

leave() {
    for mount in dev/pts dev/shm proc; do umount -l "$root/$mount" 2>/dev/null || true; done
    rm -rf --one-file-system "$root"
}
trap leave EXIT

echo "== a bare Debian ($release) in $root"
debootstrap --variant=minbase --include=ca-certificates,make,procps,sudo "$release" "$root" \
    >/tmp/sortitor-debootstrap.log 2>&1 || { tail -20 /tmp/sortitor-debootstrap.log; exit 1; }
mount -t proc proc "$root/proc"
mkdir -p "$root/dev/shm" && mount -t tmpfs tmpfs "$root/dev/shm"
mkdir -p "$root/dev/pts" && mount -t devpts devpts "$root/dev/pts"
# Services of packages are not started in a chroot; the authorities of this machine are trusted.
printf '#!/bin/sh\nexit 101\n' >"$root/usr/sbin/policy-rc.d" && chmod +x "$root/usr/sbin/policy-rc.d"
cp /etc/resolv.conf /etc/hosts "$root/etc/"
cp /etc/ssl/certs/ca-certificates.crt "$root/etc/ssl/certs/ca-certificates.crt"
chroot "$root" useradd -m -s /bin/bash newcomer
echo "newcomer ALL=(ALL) NOPASSWD: ALL" >"$root/etc/sudoers.d/newcomer"
mkdir "$root/home/newcomer/sortitor"
git -C "$here" archive HEAD | tar -x -C "$root/home/newcomer/sortitor"
chroot "$root" chown -R newcomer: /home/newcomer

as_newcomer() {
    chroot "$root" sudo -u newcomer -H env LANG=C.UTF-8 \
        PIP_CERT=/etc/ssl/certs/ca-certificates.crt \
        NODE_EXTRA_CA_CERTS=/etc/ssl/certs/ca-certificates.crt \
        sh -c "cd ~/sortitor || exit; $1"
}

echo "== make demo"
as_newcomer 'setsid make demo >../demo.log 2>&1 &
demo=$!
for _ in $(seq 900); do
    sleep 1
    kill -0 $demo || break
    grep -q "is ready at" ../demo.log && ready=yes && break
done
[ "${ready:-}" = yes ] && .venv/bin/python -c "
from urllib.request import urlopen
for path in (\"readyz\", \"handbook/\", \"today\"):
    assert urlopen(f\"http://127.0.0.1:8470/{path}\").status == 200" || exit 1
env kill -s TERM -- -$demo
sleep 10' || { cat "$root/home/newcomer/demo.log"; exit 1; }
cat "$root/home/newcomer/demo.log"

echo "== make test"
as_newcomer "make test >../test.log 2>&1" || { tail -40 "$root/home/newcomer/test.log"; exit 1; }
tail -5 "$root/home/newcomer/test.log"

if grep -niE 'warn(ing)?[:! ]|deprecat' "$root/home/newcomer/demo.log" "$root/home/newcomer/test.log"; then
    echo "a tool's warning reaches the newcomer's eye" >&2
    exit 1
fi
echo "== both commands work on a bare machine"
