#!/bin/sh
# What a proof and a test need of mail: postfix, which they start in a folder of their own, and SpamAssassin. Neither
# runs as a service of the system.
set -e
{ [ -x /usr/sbin/postfix ] && command -v spamassassin >/dev/null 2>&1; } && exit 0
echo "Mail tools are missing: installing Debian's packages"
SUDO=""
[ "$(id -u)" = 0 ] || SUDO=sudo
export DEBIAN_FRONTEND=noninteractive
$SUDO apt-get update -qq
echo "postfix postfix/main_mailer_type select No configuration" | $SUDO debconf-set-selections
$SUDO apt-get install -y -qq --no-install-recommends postfix spamassassin >/dev/null
if command -v systemctl >/dev/null 2>&1; then $SUDO systemctl disable --now postfix spamassassin spamd >/dev/null 2>&1 || true; fi
