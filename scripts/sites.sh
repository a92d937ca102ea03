#!/bin/sh
# A headquarters with SITES sites of DRIVES drives each, all on this machine: starts them, has made-up hosts report to
# one site after the other, and says what the headquarters then costs and how long people wait. PORT is the first of
# many.
set -eu
port=${PORT:-7500} sites=${SITES:-10} drives=${DRIVES:-20000} hosts=${HOSTS:-333}
dir=$(mktemp -d)
running=""
trap 'kill $running 2>/dev/null; wait $running 2>/dev/null || true; rm -rf "$dir"' EXIT
export LANTERN_CONFIG=/dev/null
started() { # log
	until grep -q lan-person "$1" 2>/dev/null; do sleep 0.2; done
	grep -oE 'lan-person-[a-z0-9]+' "$1"
}
./lantern serve --headquarters --listen "127.0.0.1:$port" --engine-listen "127.0.0.1:$((port + 1))" --data "$dir/hq" \
	>"$dir/hq.log" 2>&1 &
hq=$! running="$!"
token=$(started "$dir/hq.log")
n=0
while [ $n -lt "$sites" ]; do
	n=$((n + 1)) at="127.0.0.1:$((port + 2 * n))" told="127.0.0.1:$((port + 2 * n + 1))"
	LANTERN_TOKEN=$token ./lantern --server "http://127.0.0.1:$port" site invite "site-$n" --write "$dir/$n.secret" >/dev/null
	./lantern serve --listen "$at" --metrics-listen "$told" --metrics-drives none --data "$dir/$n" --site "site-$n" --report-to "nats://127.0.0.1:$((port + 1))" \
		--site-secret-file "$dir/$n.secret" >"$dir/$n.log" 2>&1 &
	running="$running $!"
	LANTERN_TOKEN=$(started "$dir/$n.log") ./lantern --server "http://$at" lab load --metrics "http://$told/metrics" \
		--hosts "$hosts" --drives "$drives" --people 1 --every 10m --seed "$n" --for "${FOR:-5s}" >"$dir/$n.load" 2>&1 ||
		{ cat "$dir/$n.load"; exit 1; }
done
want=$((sites * drives))
echo "waiting until the headquarters knows of $want drives"
until [ "$(curl -sf -H "Authorization: Bearer $token" "http://127.0.0.1:$port/api/v1/sites" |
	grep -oE '"drives":[0-9]+' | cut -d: -f2 | paste -sd+ | bc)" -ge "$want" ]; do sleep 1; done
sleep 5
ticks() { cut -d' ' -f14,15 "/proc/$hq/stat" | tr ' ' + | bc; }
before=$(ticks)
for path in round horizon "search?q=LD00200017" stock sites; do
	i=0
	while [ $i -lt 20 ]; do
		i=$((i + 1))
		curl -sf -o /dev/null -w '%{time_total} %{size_download}\n' --compressed -H "Authorization: Bearer $token" \
			"http://127.0.0.1:$port/api/v1/$path"
	done | sort -n | awk -v path="$path" '{t[NR] = $1; size = $2}
		END {printf "%-22s median %4.0f ms, slowest %4.0f ms, %.0f kB\n", path, 1000 * t[int((NR + 1) / 2)], 1000 * t[NR], size / 1000}'
done
i=0
while [ $i -lt 20 ]; do
	i=$((i + 1))
	curl -s -o /dev/null -w '%{time_total}\n' "http://127.0.0.1:$port/sites/site-1/api/v1/ready"
done | sort -n | awk '{t[NR] = $1} END {printf "%-22s median %4.0f ms, slowest %4.0f ms\n", "through to a site", 1000 * t[int((NR + 1) / 2)], 1000 * t[NR]}'
before=$(ticks)
sleep "${IDLE:-30}"
echo "processor: $(echo "scale=1; ($(ticks) - $before) * 100 / $(getconf CLK_TCK) / ${IDLE:-30}" | bc) % of a core while nothing is asked"
awk '/VmRSS/ {printf "memory: %.0f MB\n", $2 / 1000}' "/proc/$hq/status"
echo "disk of the engine: $(du -sm "$dir/hq/engine" | cut -f1) MB"
