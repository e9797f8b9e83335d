#!/usr/bin/env bash
# Builds a release in dist/: static, stripped programs for five systems, each in an archive with the
# licence, man pages and completions; Debian and RPM packages; bills of materials; checksums. Two runs
# give the same bytes.
set -euo pipefail
cd "$(dirname "$0")/.."
version=$(sed -n 's/^const number = "\(.*\)"$/\1/p' internal/cli/version.go)
when=$(git log -1 --format=%ct)          # of the commit, so that two runs agree
iso=$(date -u -d "@$when" +%Y-%m-%dT%H:%M:%SZ)
rm -rf dist
mkdir -p dist
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
export CGO_ENABLED=0

build() { # OS ARCH FILE
  GOOS=$1 GOARCH=$2 go build -buildvcs=true -trimpath -ldflags '-s -w -buildid=' -o "$3" ./cmd/evensprout
}

build "$(go env GOHOSTOS)" "$(go env GOHOSTARCH)" "$work/host"
mkdir -p "$work/share/completions" "$work/share/man"
for shell in bash zsh fish; do
  "$work/host" completion "$shell" > "$work/share/completions/evensprout.$shell"
done
SOURCE_DATE_EPOCH=$when go run ./scripts/manpages "$work/share/man"
cp LICENSE README.md CHANGELOG.md "$work/share/"

for target in linux/amd64 linux/arm64 darwin/amd64 darwin/arm64 windows/amd64; do
  os=${target%/*} arch=${target#*/}
  name=evensprout-$version-$os-$arch
  folder=$work/$name
  mkdir "$folder"
  cp -r "$work/share/." "$folder/"
  program=evensprout
  [ "$os" = windows ] && program=evensprout.exe
  build "$os" "$arch" "$folder/$program"
  go run ./scripts/bom "$folder/$program" "$version" "$iso" > "dist/$name.spdx.json"
  find "$folder" -exec touch -d "@$when" {} +
  tar --sort=name --owner=0 --group=0 --numeric-owner --mode='u=rwX,go=rX' -C "$work" -cf - "$name" | gzip -9n > "dist/$name.tar.gz"
done

go build -modfile=scripts/tools/go.mod -o "$work/nfpm" github.com/goreleaser/nfpm/v2/cmd/nfpm
export SOURCE_DATE_EPOCH=$when PACKAGE_VERSION=$version PACKAGE_FILES PACKAGE_ARCH
for PACKAGE_ARCH in amd64 arm64; do
  PACKAGE_FILES=$work/evensprout-$version-linux-$PACKAGE_ARCH
  gzip -9n "$PACKAGE_FILES"/man/*.1
  for packager in deb rpm; do
    "$work/nfpm" package --config scripts/package.yaml --packager "$packager" --target dist/
  done
done
(cd dist && sha256sum -- * > SHA256SUMS)
ls -l dist
