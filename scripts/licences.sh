#!/usr/bin/env bash
# Writes docs/dependencies.md: the modules that the program is built from, with their licences.
set -euo pipefail
cd "$(dirname "$0")/.."

licence() {
  local file text
  file=$(find "$1" -maxdepth 1 -iname 'licen[cs]e*' -o -maxdepth 1 -iname 'copying*' | sort | head -1)
  [ -n "$file" ] || { echo 'none found'; return; }
  text=$(head -c 4000 "$file")
  case "$text" in
    *'Apache License'*) echo Apache-2.0 ;;
    *'Mozilla Public License'*) echo MPL-2.0 ;;
    *'Creative Commons Attribution'*) echo CC-BY ;;
    *'FreeType License'*) echo 'FTL or GPL-2.0' ;;
    *'Permission to use, copy, modify, and'*) echo ISC ;;
    *'Permission is hereby granted, free of charge'*) echo MIT ;;
    *'Redistribution and use in source'*)
      if grep -qiE 'neither the names? |names of its contributors' <<<"$text"; then echo BSD-3-Clause; else echo BSD-2-Clause; fi ;;
    *) echo "see $(basename "$file")" ;;
  esac
}

{
  echo '# Dependencies'
  echo
  echo 'The modules that the program is built from. `scripts/licences.sh` writes this page.'
  echo '`go mod verify` in continuous integration compares them with their checksums.'
  echo
  echo '| module | version | licence |'
  echo '|---|---|---|'
  go list -deps -f '{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}} {{.Dir}}{{end}}{{end}}' ./cmd/evensprout | sort -u |
    while read -r path version folder; do
      [ -n "$path" ] && echo "| $path | $version | $(licence "$folder") |"
    done
} > docs/dependencies.md
