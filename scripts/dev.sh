#!/usr/bin/env bash
# Serves what is being worked on: the server is built again and restarted when Rust code changes, and the page in the browser
# follows both that and every change of the web app. Ctrl-C ends all of it.
set -uo pipefail
cd "$(dirname "$0")/.."
data=${1:-target/dev.sqlite}
port=7450
started=target/dev-started
mkdir -p target
touch "$started"
(cd web && exec npx vite --clearScreen false) & vite=$!
server=
trap 'kill $vite $server 2>/dev/null; wait' EXIT
trap exit INT TERM

ready() { curl -sf -o /dev/null "http://127.0.0.1:$port/api/options"; }

while true; do
  stamp=$(mktemp)
  if cargo build --profile working -p ulmix; then
    [ -n "$server" ] && kill "$server" 2>/dev/null && wait "$server" 2>/dev/null
    target/working/ulmix demo --data "$data" --port "$port" & server=$!
    until ready || ! kill -0 "$server" 2>/dev/null; do sleep 0.1; done
    touch "$started"
  fi
  until [ -n "$(find crates Cargo.toml -newer "$stamp" \( -name '*.rs' -o -name '*.toml' -o -name '*.html' \) -print -quit)" ]; do sleep 0.3; done
  rm -f "$stamp"
done
