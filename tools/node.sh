#!/usr/bin/env bash
# Node and the packages of the lock file, where they are missing.
set -euo pipefail
cd "$(dirname "$0")/.."

if ! command -v npm >/dev/null; then
  sudo=$([ "$(id -u)" -eq 0 ] || echo sudo)
  $sudo apt-get update -qq
  $sudo apt-get install -qq -y --no-install-recommends nodejs npm >/dev/null
fi
# What is installed is that of the lock file: npm keeps a copy of it there.
if [ ! -x node_modules/.bin/tsc ] || [ package-lock.json -nt node_modules/.package-lock.json ]; then
  npm ci --ignore-scripts --no-audit --no-fund --silent
fi
