#!/bin/sh
# Debian's Chromium is what the browser tests drive. Install it where it is missing: its shell without windows, which
# opens pages in half the time, or the whole browser where there is no such package.
set -e
command -v chromium-headless-shell >/dev/null 2>&1 && exit 0
command -v chromium >/dev/null 2>&1 && exit 0
echo "Chromium is missing: installing Debian's package"
SUDO=""
[ "$(id -u)" = 0 ] || SUDO=sudo
export DEBIAN_FRONTEND=noninteractive
$SUDO apt-get update -qq
$SUDO apt-get install -y -qq chromium-headless-shell >/dev/null || $SUDO apt-get install -y -qq chromium >/dev/null
