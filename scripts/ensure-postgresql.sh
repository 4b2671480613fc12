#!/bin/sh
# PostgreSQL's programs, which tests and `make cluster` start in a folder of their own. It never runs as a service of
# the system.
set -e
ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 && exit 0
echo "PostgreSQL is missing: installing Debian's package"
SUDO=""
[ "$(id -u)" = 0 ] || SUDO=sudo
export DEBIAN_FRONTEND=noninteractive
$SUDO apt-get update -qq
$SUDO mkdir -p /etc/postgresql-common
echo "create_main_cluster = false" | $SUDO tee /etc/postgresql-common/createcluster.conf >/dev/null
$SUDO apt-get install -y -qq --no-install-recommends postgresql >/dev/null
