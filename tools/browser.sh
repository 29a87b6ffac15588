#!/bin/sh
# Chromium and its driver, and Pango for PDF, from Debian's packages, where they are missing.
set -eu
if [ -x /usr/bin/chromium ] && [ -x /usr/bin/chromedriver ]; then
    exit 0
fi
echo "Installing chromium and chromium-driver from Debian's packages"
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
$as_root apt-get update -qq
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends chromium chromium-driver libpangoft2-1.0-0 libharfbuzz-subset0 >/dev/null
