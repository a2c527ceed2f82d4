# Sourced by ./warm-ember and ./check: makes .venv from a lock file when it is missing or out of date.
# Speaks on stderr only, so that a command's --json stays alone on stdout.

say() { printf 'warm-ember set-up: %s\n' "$*" >&2; }

find_python() {
    local candidate
    for candidate in "${WARM_EMBER_PYTHON:-}" python3 python3.13 python3.12 python3.11; do
        [ -n "$candidate" ] || continue
        if "$candidate" -c 'import sys, venv; sys.exit(sys.version_info < (3, 11))' 2>/dev/null; then
            printf '%s' "$candidate"
            return 0
        fi
    done
    say "Python 3.11 or newer with its venv module is needed; on Debian: apt-get install python3 python3-venv"
    return 2
}

missing_system_packages() {
    PYTHONPATH="$root/src" "$1" -c 'from warm_ember.desktop.system_libraries import missing_packages as m; print(*m())'
}

# The desktop's own validators, for the checks.
missing_validators() {
    local missing=""
    command -v desktop-file-validate >/dev/null || missing="$missing desktop-file-utils"
    command -v appstreamcli >/dev/null || missing="$missing appstream"
    command -v update-mime-database >/dev/null || missing="$missing shared-mime-info"
    command -v groff >/dev/null && [ -f /usr/share/groff/current/tmac/an.tmac ] || missing="$missing groff"
    printf '%s' "${missing# }"
}

install_system_packages() {
    local packages
    packages=$(missing_system_packages "$1")
    [ "$2" != requirements-dev.lock ] || packages="$packages $(missing_validators)"
    packages=$(printf '%s' "$packages" | xargs)
    [ -n "$packages" ] || return 0
    if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null; then
        say "installing system libraries: $packages"
        # shellcheck disable=SC2086
        if { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $packages; } >&2; then
            return 0
        fi
    fi
    say "window, reports or checks lack system packages; install them with: sudo apt-get install $packages"
}

# Lets this Python find the sources, and pytest the plug-in that they bring.
point_at_sources() {
    "$venv/bin/python" - "$root" <<'PYTHON'
import pathlib, sys, sysconfig, tomllib
root, site = pathlib.Path(sys.argv[1]), pathlib.Path(sysconfig.get_path("purelib"))
project = tomllib.loads((root / "pyproject.toml").read_text(encoding="utf-8"))["project"]
(site / "warm-ember.pth").write_text(f"{root / 'src'}\n", encoding="utf-8")
info = site / f"warm_ember-{project['version']}.dist-info"
info.mkdir(exist_ok=True)
about = f"Metadata-Version: 2.1\nName: {project['name']}\nVersion: {project['version']}\n"
(info / "METADATA").write_text(about, encoding="utf-8")
plugins = "".join(f"{name} = {module}\n" for name, module in project["entry-points"]["pytest11"].items())
(info / "entry_points.txt").write_text(f"[pytest11]\n{plugins}", encoding="utf-8")
PYTHON
}

# prepare LOCK: leaves $venv ready for what LOCK lists.
prepare() {
    local lock="$root/$1" stamp="$root/.venv/$1.installed" python
    venv="$root/.venv"
    cmp -s "$lock" "$stamp" && return 0
    (
        flock 9
        cmp -s "$lock" "$stamp" && exit 0
        python=$(find_python) || exit 2
        install_system_packages "$python" "$1"
        if [ ! -x "$venv/bin/python" ]; then
            say "making .venv with $("$python" --version)"
            "$python" -m venv "$venv" >&2 || exit 2
        fi
        say "installing the packages of $1 (once, about a minute)"
        "$venv/bin/python" -m pip install --quiet --disable-pip-version-check --require-hashes \
            ${WARM_EMBER_WHEELS:+--no-index --find-links "$WARM_EMBER_WHEELS"} -r "$lock" >&2 || exit 2
        point_at_sources || exit 2
        cp "$lock" "$stamp"
        say "ready"
    ) 9>"$root/.setup.lock" || {
        say "could not finish; what went wrong stands above"
        return 2
    }
}
