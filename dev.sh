#!/bin/sh
# Serves the sample world on 127.0.0.1:7070 and the console with reload on
# 127.0.0.1:5173. The service is built and started anew when a Go or SQL file changes.
set -u
tags=netgo,osusergo,sqlite_omit_load_extension
mkdir -p build
service=
end() {
	trap - INT TERM EXIT
	kill $service $console 2>/dev/null
	wait
	exit 0
}
(cd web && exec npx vite --host 127.0.0.1) &
console=$!
trap end INT TERM EXIT
newest() { find cmd internal go.mod -name '*.go' -newer build/dev.mark -o -name '*.sql' -newer build/dev.mark | head -1; }
touch -d 2000-01-01 build/dev.mark
while :; do
	if [ -n "$(newest)" ]; then
		touch build/dev.mark
		if go build -tags $tags -o build/warthesis-dev ./cmd/warthesis; then
			[ -n "$service" ] && kill "$service" && wait "$service"
			build/warthesis-dev demo --data build/dev-data &
			service=$!
		fi
	fi
	sleep 1
done
