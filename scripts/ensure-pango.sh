#!/bin/sh
# Documents are drawn with Debian's Pango. Install it where it is missing; without it all else works, and a document says
# what is missing.
ldconfig -p 2>/dev/null | grep -q libpangoft2-1.0.so.0 && ldconfig -p | grep -q libharfbuzz-subset.so.0 && exit 0
command -v apt-get >/dev/null 2>&1 || { echo "Pango is missing: invoices can't be drawn until it is installed"; exit 0; }
echo "Pango is missing: installing Debian's package"
SUDO=""
[ "$(id -u)" = 0 ] || SUDO="sudo -n"
export DEBIAN_FRONTEND=noninteractive
$SUDO apt-get update -qq && $SUDO apt-get install -y -qq libpangoft2-1.0-0 libharfbuzz-subset0 >/dev/null ||
  echo "It could not be installed: invoices can't be drawn until it is"
