#!/usr/bin/env bash
# Checks the scripts of the pages: types by tsc, faults by eslint.
set -euo pipefail
cd "$(dirname "$0")/.."

tools/node.sh
node_modules/.bin/tsc
node_modules/.bin/eslint src
