#!/bin/sh
# Chromium for the browser tests and Node for checking that the built stylesheet is current.
set -e
if [ ! -x /usr/bin/chromium ]; then
    echo "Installing Chromium …"
    apt-get update -qq && apt-get install -y -qq chromium >/dev/null
fi
if ! command -v npm >/dev/null; then
    echo "Installing Node …"
    apt-get update -qq && apt-get install -y -qq nodejs npm >/dev/null
fi
# Not `npm ci`: it refuses lock files that leave out other platforms' optional packages.
npm install --no-save --silent --ignore-scripts >/dev/null
