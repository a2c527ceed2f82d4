#!/usr/bin/env bash
# Runs the tests with every Python from 3.11 on that this machine has: scripts/matrix.sh [arguments of pytest]
set -u
root=$(cd "$(dirname "$(readlink -f "${BASH_SOURCE[0]}")")/.." && pwd)
cd "$root" || exit 2
export QT_QPA_PLATFORM="${QT_QPA_PLATFORM:-offscreen}"
tried=0 failed=()
for minor in 11 12 13 14; do
    python=python3.$minor
    "$python" -c 'import venv' 2>/dev/null || continue
    environment="$root/build/matrix/3.$minor"
    printf '\n== Python 3.%s\n' "$minor"
    if ! { [ -x "$environment/bin/python" ] || "$python" -m venv "$environment"; } ||
        ! "$environment/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes \
            ${WARM_EMBER_WHEELS:+--no-index --find-links "$WARM_EMBER_WHEELS"} -r requirements-dev.lock; then
        failed+=("3.$minor (no set-up)")
        continue
    fi
    (
        venv=$environment
        . "$root/scripts/prepare.sh"
        point_at_sources
    )
    tried=$((tried + 1))
    "$environment/bin/python" -m pytest -q -n "$(nproc)" --dist worksteal -p no:cacheprovider "$@" || failed+=("3.$minor")
done
printf '\n%d tried' "$tried"
[ ${#failed[@]} = 0 ] && printf ', all passed\n' || printf '; failed: %s\n' "${failed[*]}"
[ "$tried" -gt 0 ] && [ ${#failed[@]} = 0 ]
