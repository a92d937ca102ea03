#!/bin/sh
# Looks at every page of the console with Lighthouse, on the demo's data. Fails where accessibility or best practices
# are under 95 of 100, or performance under 90. An idle machine is needed for the last one. The program is fetched by
# npm.
set -eu
at=127.0.0.1:7419
dir=$(mktemp -d)
./lantern demo --listen "$at" --data "$dir/demo" >"$dir/log" 2>&1 &
demo=$!
trap 'kill $demo; wait $demo 2>/dev/null; rm -rf "$dir"' EXIT
until [ -s "$dir/demo/client.yaml" ] && grep -q "Stop with" "$dir/log"; do sleep 0.2; done
sleep 10 # the first reports
token=$(grep -oE 'lan-person-[a-z0-9]+' "$dir/demo/client.yaml")
CHROME_PATH=${CHROME_PATH:-$(command -v chromium)}
export CHROME_PATH
bad=0
for page in / /notices /drives /drives/ZU006 /bays /bays/skerry /hosts /pools /pools/soundscape /tests /swaps /stock \
	/inventory /reports /recoveries /rules /people; do
	npx --yes lighthouse@12.8.2 "http://$at$page" --quiet --preset=desktop \
		--only-categories=performance,accessibility,best-practices --chrome-flags="--headless=new --no-sandbox --disable-gpu" \
		--extra-headers="{\"Authorization\":\"Bearer $token\"}" --output=json --output-path="$dir/out.json" >"$dir/said" 2>&1 ||
		{ cat "$dir/said"; exit 1; }
	node -e '
		const c = JSON.parse(require("fs").readFileSync(process.argv[1])).categories;
		const of = (n) => Math.round(100 * c[n].score);
		const [p, a, b] = [of("performance"), of("accessibility"), of("best-practices")];
		console.log(`${process.argv[2].padEnd(18)} performance ${p}, accessibility ${a}, best practices ${b}`);
		process.exit(p < 90 || a < 95 || b < 95 ? 1 : 0);' "$dir/out.json" "$page" || bad=1
done
exit $bad
