#!/bin/sh
# Debian's Chromium is what the browser tests drive. Install it where it is missing.
set -e
command -v chromium >/dev/null 2>&1 && exit 0
echo "Chromium is missing: installing Debian's package"
SUDO=""
[ "$(id -u)" = 0 ] || SUDO=sudo
$SUDO apt-get update -qq
DEBIAN_FRONTEND=noninteractive $SUDO apt-get install -y -qq chromium >/dev/null
