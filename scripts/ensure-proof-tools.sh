#!/bin/sh
# What the proofs `deployed`, `pooled`, `image`, `booted` and `composed` run: a proxy, a pooler, log rotation, and what
# builds and starts an image and a system of its own. None of them stays on as a service of this system.
set -e
PATH="$PATH:/usr/sbin"
missing=""
for one in nginx:nginx-light logrotate:logrotate pgbouncer:pgbouncer debootstrap:debootstrap buildah:buildah umoci:umoci \
    systemd-nspawn:systemd-container podman:podman runc:runc; do
    command -v "${one%%:*}" >/dev/null 2>&1 || missing="$missing ${one##*:}"
done
if [ -n "$missing" ]; then
    echo "Proof tools are missing: installing Debian's packages$missing"
    SUDO=""
    [ "$(id -u)" = 0 ] || SUDO=sudo
    export DEBIAN_FRONTEND=noninteractive
    $SUDO apt-get update -qq
    case "$missing" in *podman*) missing="$missing netavark aardvark-dns iptables" ;; esac
    # shellcheck disable=SC2086
    $SUDO apt-get install -y -qq --no-install-recommends $missing >/dev/null
    if command -v systemctl >/dev/null 2>&1; then $SUDO systemctl disable --now nginx pgbouncer >/dev/null 2>&1 || true; fi
fi
