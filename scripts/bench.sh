#!/usr/bin/env bash
# Measures whole commands against what one would do by hand with coreutils,
# in turn, on two loop-mounted ext4 drives (root). Prints the median of each
# and the ratio. NEXLIN_BENCH_RUNS says how many pairs (5).
set -euo pipefail
cd "$(dirname "$0")/.."
[ "$(id -u)" = 0 ] || { echo "bench mounts drives, which needs root"; exit 1; }
runs=${NEXLIN_BENCH_RUNS:-5} bin=$PWD/bin/nexlin
lab=$(mktemp -d /tmp/nexlin-bench-XXXXXX)
finish() { for d in a b; do mountpoint -q "$lab/$d" && umount "$lab/$d"; done; rm -rf "$lab"; }
trap finish EXIT
for d in a b; do
	truncate -s 8G "$lab/$d.img"
	mkfs.ext4 -q -F -m 0 "$lab/$d.img"
	mkdir "$lab/$d"
	mount -o loop "$lab/$d.img" "$lab/$d"
done

now() { date +%s.%N; }
median() { sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }
cold() { sync; echo 3 >/proc/sys/vm/drop_caches; }

# pair NAME FOLDER HAND: HAND copies $1 to $2 by hand.
pair() {
	local name=$1 folder=$2 hand=$3 ours=() theirs=() ratios=() t0 t1
	for _ in $(seq "$runs"); do
		cold
		t0=$(now); "$bin" --state-dir "$lab/state" move "$folder" --into "$lab/b" --yes -q >/dev/null; t1=$(now)
		ours+=("$(echo "$t1 - $t0" | bc)")
		"$bin" --state-dir "$lab/state" undo "$("$bin" --state-dir "$lab/state" history --json | sed -n 's/.*"id": "\(.*\)".*/\1/p' | head -n 1)" --yes -q >/dev/null
		rm -rf "$lab/b/"* "$lab/b/".[!.]* "$lab/state"
		cold
		t0=$(now); $hand "$folder" "$lab/b/copy"; t1=$(now)
		theirs+=("$(echo "$t1 - $t0" | bc)")
		rm -rf "$lab/b/copy"
		ratios+=("$(echo "scale=3; ${ours[-1]} / ${theirs[-1]}" | bc)")
	done
	printf '| %s | %.2f s | %.2f s | %.2f |\n' "$name" "$(printf '%s\n' "${ours[@]}" | median)" \
		"$(printf '%s\n' "${theirs[@]}" | median)" "$(printf '%s\n' "${ratios[@]}" | median)"
}

copy_sync() { cp -a "$1" "$2" && sync -f "$2"; }
by_hand() {
	cp -a "$1" "$2" && sync -f "$2"
	(cd "$1" && find . -type f -print0 | sort -z | xargs -0 sha256sum) >"$lab/one"
	(cd "$2" && find . -type f -print0 | sort -z | xargs -0 sha256sum) >"$lab/two"
	cmp "$lab/one" "$lab/two" && mv "$1" "$1.old" && ln -s "$2" "$1" && rm "$1" && mv "$1.old" "$1"
}

echo "| work | nexlin | by hand | ratio |"
echo "| --- | --- | --- | --- |"
cp -a "$(go env GOROOT)" "$lab/a/go"
pair "move, Go's tree; against cp -a + sync" "$lab/a/go" copy_sync
pair "the same; against cp, sync, sha256sum of both, mv, ln" "$lab/a/go" by_hand
rm -rf "$lab/a/go"
mkdir "$lab/a/large"
head -c 1536M /dev/urandom >"$lab/a/large/one"
head -c 1536M /dev/urandom >"$lab/a/large/two"
pair "move, 3 GiB in two files; against cp -a + sync" "$lab/a/large" copy_sync
