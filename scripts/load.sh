#!/bin/sh
# A service of its own under the load of a large fleet: starts one, loads it, and ends it. HOSTS, DRIVES, PEOPLE, FOR
# and EVERY say how much; PORT is the first of two ports.
set -eu
port=${PORT:-7420}
dir=$(mktemp -d)
./lantern serve --listen "127.0.0.1:$port" --data "$dir/data" --metrics-listen "127.0.0.1:$((port + 1))" \
	--metrics-drives none >"$dir/log" 2>&1 &
service=$!
trap 'kill $service 2>/dev/null; wait $service 2>/dev/null || true; rm -rf "$dir"' EXIT
until grep -q lan-person "$dir/log"; do
	kill -0 $service 2>/dev/null || { cat "$dir/log"; exit 1; }
	sleep 0.2
done
LANTERN_TOKEN=$(grep -oE 'lan-person-[a-z0-9]+' "$dir/log")
export LANTERN_TOKEN LANTERN_CONFIG=/dev/null
./lantern --server "http://127.0.0.1:$port" lab load --metrics "http://127.0.0.1:$((port + 1))/metrics" \
	--hosts "${HOSTS:-1667}" --drives "${DRIVES:-100000}" --people "${PEOPLE:-50}" --for "${FOR:-10m}" --every "${EVERY:-5m}"
echo "the records take $(du -sm "$dir/data" | cut -f1) MB"
