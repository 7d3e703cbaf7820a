#!/bin/sh
# Chromium for the browser tests, Node for checking that the built stylesheet is current, Redis for
# the workers that share it. Says what it could not install, and then fails: no stamp is set.
set -eu

TRIES=${ARKUND_INSTALL_TRIES:-5}
WAIT_S=${ARKUND_INSTALL_WAIT_S:-10}
CHROMIUM=${ARKUND_CHROMIUM:-/usr/bin/chromium}

fail() {
    echo "Could not install $1: $2" >&2
    echo "Check the connection to the package registries, then run the command again." >&2
    exit 1
}

# The package manager may be busy with an update of its own: it waits for its lock, and a registry
# that does not answer is asked again.
packages() {
    what=$1
    shift
    echo "Installing $what …"
    try=1
    until apt-get -o DPkg::Lock::Timeout=120 update -qq &&
        DEBIAN_FRONTEND=noninteractive apt-get -o DPkg::Lock::Timeout=300 install -y -q -o Dpkg::Use-Pty=0 "$@"; do
        [ "$try" -lt "$TRIES" ] || fail "$what" "apt-get failed $TRIES times."
        echo "That failed; try $try of $TRIES, again in $WAIT_S s." >&2
        try=$((try + 1))
        sleep "$WAIT_S"
    done
}

if [ ! -x "$CHROMIUM" ]; then
    packages Chromium chromium
fi
if ! command -v npm >/dev/null; then
    packages Node nodejs npm
fi
if ! command -v redis-server >/dev/null; then
    # Its own service is of no use here and would take the usual port.
    packages Redis redis-server
    service redis-server stop >/dev/null 2>&1 || true
fi
# Not `npm ci`: it refuses lock files that leave out other platforms' optional packages.
npm install --no-save --silent --ignore-scripts >/dev/null || fail "the stylesheet's tools" "npm failed."

# An installer that answers 0 and installs nothing is found out here and not by a test.
[ -x "$CHROMIUM" ] || fail Chromium "$CHROMIUM is not there."
command -v npm >/dev/null || fail Node "npm is not there."
command -v redis-server >/dev/null || fail Redis "redis-server is not there."
