#!/bin/sh
# Tests near the system, and the self-test onto a second drive: an image, attached for it.
set -eu
image=$(mktemp -d)/second.dmg
go build -o bin/nexlin ./cmd/nexlin
go test ./internal/handle ./internal/drive ./internal/macos ./internal/link ./internal/inventory ./internal/transfer
for fs in APFS ExFAT; do
	hdiutil create -quiet -size 512m -fs "$fs" -volname "NX$fs" "$image"
	hdiutil attach -quiet -mountpoint "/tmp/NX$fs" "$image"
	status=0
	bin/nexlin selftest --into "/tmp/NX$fs" --report "selftest-$fs.json" || status=$?
	hdiutil detach -quiet "/tmp/NX$fs"
	rm "$image"
	[ "$status" = 0 ] || exit "$status"
done
