#!/bin/sh
# Open meshes from Debian's packages, to test against: fetched once to .meshes, never committed. Tests that want
# them are passed over where they cannot be had.
set -eu
cd "$(dirname "$0")/.."
[ -e .meshes/complete ] && exit 0
if ! command -v apt-get >/dev/null || ! command -v dpkg >/dev/null; then
    echo "No apt-get here: tests with open meshes are passed over"
    exit 0
fi
echo "Fetching open meshes from Debian's packages"
rm -rf .meshes
mkdir -p .meshes/unpacked
cd .meshes
fetch() {
    apt-get download -qq libcgal-demo gmsh-doc assimp-testmodels 2>/dev/null
}
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
fetch || { $as_root apt-get update -qq && fetch; } || {
    echo "They could not be fetched: tests with open meshes are passed over"
    exit 0
}
for package in *.deb; do dpkg -x "$package" unpacked; done
mkdir -p geometry mechanical intake
tar -xzf unpacked/usr/share/doc/libcgal-dev/data.tar.gz -C geometry --strip-components=2 data/meshes
find unpacked/usr/share/doc/gmsh-doc -name '*.st*p*' -exec cp {} mechanical/ \;
find unpacked/usr/share/doc/gmsh-doc -name '*.stl.gz' -exec cp -n {} mechanical/ \;
gunzip -f mechanical/*.gz
cp -r unpacked/usr/share/assimp/models intake/ 2>/dev/null || true
rm -rf unpacked ./*.deb
touch complete
