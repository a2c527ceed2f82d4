#!/usr/bin/env bash
# Fetches all that a set-up needs into a folder, for machines without a network: scripts/wheels.sh FOLDER
set -eu
root=$(cd "$(dirname "$(readlink -f "${BASH_SOURCE[0]}")")/.." && pwd)
[ $# = 1 ] || { printf 'usage: %s FOLDER\n' "$0" >&2; exit 2; }
mkdir -p "$1"
for lock in requirements.lock requirements-dev.lock; do
    "${WARM_EMBER_PYTHON:-python3}" -m pip download --quiet --disable-pip-version-check --require-hashes -r "$root/$lock" -d "$1"
done
printf 'set up from it with: WARM_EMBER_WHEELS=%s ./warm-ember demo\n' "$(cd "$1" && pwd)"
