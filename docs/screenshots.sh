#!/usr/bin/env bash
# Takes the pictures in docs/screenshots anew: pages in headless Chromium, commands
# in a terminal window. Called by make screenshots.
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$work"' EXIT
address=127.0.0.1:7070
if curl -s http://$address >/dev/null; then echo "something answers at $address: stop it, the pictures are taken of a fresh sample world there"; exit 1; fi
bin/warthesis demo --data "$work/demo" --listen $address >/dev/null 2>&1 &
for _ in $(seq 100); do curl -sf http://$address/healthz/ready >/dev/null && break; sleep 0.2; done

# The pictures show where logins are kept: as a path within the folder they are taken in.
export WARTHESIS_CLIENT_FOLDER=client WARTHESIS_CLIENT_LOGIN_FILE=client/logins.json
(cd "$work" && echo sleeper-to-the-coast | "$OLDPWD/bin/warthesis" login $address --account ines --from-stdin >/dev/null && echo sleeper-to-the-coast | "$OLDPWD/bin/warthesis" login 127.0.0.1:7071 --account ines --from-stdin >/dev/null &&
  echo sleeper-to-the-coast | "$OLDPWD/bin/warthesis" login $address --account ines --from-stdin >/dev/null)

go run -tags netgo,osusergo,sqlite_omit_load_extension ./cmd/screenshots -from http://$address -to docs/screenshots

Xvfb :87 -noreset -screen 0 1280x800x24 >/dev/null 2>&1 &
sleep 1
export DISPLAY=:87 PATH="$PWD/bin:$PATH"

# shoot NAME COMMANDS: runs the commands in a terminal, as if typed, and takes the picture.
shoot() {
  printf 'cd %q\nPS1="$ "\nclear\n' "$work" >"$work/$1.sh"
  while IFS= read -r line; do printf 'echo %q\n%s\n' "\$ $line" "$line" >>"$work/$1.sh"; done <<<"$2"
  printf 'touch %q\nsleep 30\n' "$work/$1.done" >>"$work/$1.sh"
  xterm -geometry 158x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#12181D' -fg '#E8E4DA' -bw 12 -e bash "$work/$1.sh" &
  local window=$!
  for _ in $(seq 100); do [ -e "$work/$1.done" ] && break; sleep 0.2; done
  [ -e "$work/$1.done" ] || { echo "$1 does not end"; exit 1; }
  sleep 0.7
  import -window root "docs/screenshots/$1.png"
  kill $window 2>/dev/null || true; wait $window 2>/dev/null || true
}

shoot terminal-retention "warthesis usage show $address/berths
warthesis quota list $address
warthesis retention preview $address/berths --limit 2"
printf 'FROM %s/base/go-runtime:12.6 AS build\nFROM %s/base/os:12.6\nCOPY --from=build /planner /usr/bin/planner\n' $address $address >"$work/Containerfile"
shoot terminal-images "warthesis pull $address/timetable/planner:2.4.1 ./planner
warthesis push ./planner $address/timetable/planner:mine
warthesis identify --platform linux/arm64 --whole $address/timetable/planner:2.4.1
warthesis find $address 6bdb65605f78
warthesis pin Containerfile"
cp "$work/demo-parcels/signal-box-14-november.parcel" "$work/november.parcel"
shoot terminal-carrying "warthesis packing make --registry $address --match 'signals/relay:<release>' --match 'rolling/telemetry:<release>' --newest 2 --out november.list
warthesis copy november.list 127.0.0.1:7071/fleet
warthesis parcel show november.parcel
warthesis parcel check november.parcel
warthesis import 127.0.0.1:7071 headquarters/timetable/board outside/board
warthesis arrival list 127.0.0.1:7071"
shoot terminal-rights "warthesis whoami
warthesis members $address/berths
warthesis team make $address/catering --description 'What is eaten on the way' --owner marit --writer teodor
warthesis account make ci-catering --kind machine
warthesis grant $address/catering writer ci-catering"
shoot terminal-flow "warthesis doctor $address/timetable/planner
warthesis peer test $address tarn --repository signals/relay --push
warthesis replication list $address
warthesis replication show $address trains --limit 2"
shoot terminal-tags "warthesis list $address/timetable/planner --sort version --prefix 2.
warthesis tag move $address/timetable/planner:stable 2.4.0
warthesis tag log $address/timetable/planner:stable
warthesis next $address/timetable/planner patch
warthesis tag add $address/timetable/planner:2.4.1 2.4 candidate"
shoot terminal-names "warthesis rules show $address/signals
warthesis rules explain $address/signals/relay:4.2.0
warthesis tag move $address/signals/relay:4.2.0 4.1.0
warthesis remove $address/timetable/planner:2.2.0 --whole --yes --reason 'built by mistake'
warthesis removal list $address
warthesis removal undo $address 4"
shoot terminal-sweeps "warthesis sweep preview $address
warthesis explain $address/timetable/planner:2.4.1
warthesis hurt list $address
warthesis sweep run $address --limit 0
warthesis sweep list $address"
