#!/usr/bin/env bash
# Makes a release in dist/: wheel and sources, checksums, and what is in it (CycloneDX): scripts/release.sh VERSION
# Nothing is uploaded, and the commit and its tag stay here until they are pushed.
set -eu
root=$(cd "$(dirname "$(readlink -f "${BASH_SOURCE[0]}")")/.." && pwd)
cd "$root"
version=${1:?usage: scripts/release.sh VERSION}
fail() { printf '%s\n' "$*" >&2; exit 2; }
[[ $version =~ ^[0-9]+\.[0-9]+\.[0-9]+$ ]] || fail "a version has three numbers, such as 0.2.0"
[ -z "$(git status --porcelain)" ] || fail "there are changes that are not committed"
git rev-parse -q --verify "refs/tags/v$version" >/dev/null && fail "there is a release $version already"
grep -q '^## \[Unreleased\]' CHANGELOG.md || fail "CHANGELOG.md has nothing under '[Unreleased]'"
date=$(date +%F)

sed -i "s/^version = \".*\"/version = \"$version\"/" pyproject.toml
sed -i "s/^VERSION = .*/VERSION = \"$version\"/; s/^RELEASED = .*/RELEASED = \"$date\"/" src/warm_ember/version.py
sed -i "s/^## \[Unreleased\]/## [$version] - $date/" CHANGELOG.md
sed -i "s/warm_ember-[0-9.]*-py3/warm_ember-$version-py3/" docs/install.md
[ "${CHECKED:-}" = yes ] || ./check || { git checkout -q -- .; fail "the checks failed: nothing was changed"; }

rm -rf dist build/release
python3 -m venv build/release
build/release/bin/pip install --quiet --disable-pip-version-check 'build>=1.2' 'cyclonedx-bom>=5' 'setuptools>=77'
export SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(date -d "$date" +%s)} # same sources, same bytes
build/release/bin/python -m build --no-isolation --outdir dist .
# It has to install with nothing but itself, and with all of it; what the latter brings is what is in it.
for with in "" "[window,fleet]"; do
    environment=build/release/tried${with:+-with-all}
    python3 -m venv "$environment"
    "$environment/bin/pip" install --quiet --disable-pip-version-check "dist/warm_ember-$version-py3-none-any.whl$with"
    [ "$("$environment/bin/warm-ember" --version)" = "warm-ember $version" ] || fail "the wheel does not tell its version"
done
build/release/bin/cyclonedx-py environment --pyproject pyproject.toml --output-reproducible --of JSON \
    -o "dist/warm-ember-$version.cdx.json" build/release/tried-with-all/bin/python
(cd dist && sha256sum -- * >SHA256SUMS)
git commit -qam "Release $version"
git tag -a "v$version" -m "Warm Ember $version"
printf 'dist/ has:\n' && cat dist/SHA256SUMS
printf 'to publish: git push --follow-tags\n'
