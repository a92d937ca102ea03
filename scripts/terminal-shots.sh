#!/usr/bin/env bash
# Pictures of the terminal views, from a demo of their own. Needs Xvfb, xterm and ImageMagick (Debian: xvfb xterm
# imagemagick).
set -euo pipefail
cd "$(dirname "$0")/.."
out=${1:-docs/screenshots}
work=$(mktemp -d)
listen=127.0.0.1:7499
export LANG=C.UTF-8 DISPLAY=:97 LANTERN_CONFIG=$work/client.yaml TERM=xterm-256color
Xvfb "$DISPLAY" -screen 0 1280x800x24 >/dev/null 2>&1 & screen=$!
./lantern demo --data "$work" --listen $listen >/dev/null 2>&1 & demo=$!
trap 'kill $demo $screen 2>/dev/null; wait $demo 2>/dev/null || true; rm -rf "$work"' EXIT
until ./lantern round 2>/dev/null | grep -q "◆.*skerry/front/7"; do sleep 0.2; done
until ./lantern round | grep -q "likely"; do sleep 0.5; done

shot() { # name, command
  xterm -geometry 126x45+0+0 -fa "DejaVu Sans Mono" -fs 10 -bg "#0d1419" -fg "#e9eff1" -bw 14 -e bash -c "clear; printf '\$ %s\n' \"${3:-$2}\"; $2; sleep 60" & local x=$!
  sleep "${4:-2}"
  import -window root png:- | convert - -trim +repage "$out/$1.png"
  kill $x; wait $x 2>/dev/null || true
}
shot terminal-round "./lantern round" "lantern round"
shot terminal-watch "./lantern watch" "lantern watch" 4
tail=$(./lantern round --output csv --columns tail --no-header | head -1)
./lantern light on "$tail" --for 10m >/dev/null; sleep 1
./lantern rehearse soundscape --listen 127.0.0.1:7498 --data "$work/practice" >"$work/said" & practice=$!
until grep -q "Stop with" "$work/said"; do sleep 0.2; done
truth=$LANTERN_CONFIG
export LANTERN_CONFIG=$work/practice/client.yaml
./lantern swap plan "$tail" >/dev/null
shot terminal-rehearse "./lantern swap show" "lantern swap show"
export LANTERN_CONFIG=$truth
kill $practice; wait $practice 2>/dev/null || true
./lantern swap plan "$tail" --keep-spare >/dev/null
./lantern swap begin --reason "LM417 comes next" >/dev/null
./lantern lab pull skerry/front/7 >/dev/null; sleep 1
new=$(./lantern lab insert skerry/front/7 | cut -d' ' -f1); sleep 1
./lantern swap confirm --tail "$new" --reason "no tested one at hand" >/dev/null; sleep 1
./lantern lab speed 300 >/dev/null
shot terminal-follow "./lantern follow soundscape" "lantern follow soundscape" 14
