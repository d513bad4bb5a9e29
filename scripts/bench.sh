#!/usr/bin/env bash
# Measures whole commands against what one would do by hand with coreutils,
# in turn, on two loop-mounted ext4 drives (root). Prints the median of each
# and the median of the ratios, pair by pair. NEXLIN_BENCH_RUNS says how many
# pairs (5); NEXLIN_BENCH names what is run, of: small large tiny survey deep
# resume memory.
set -euo pipefail
cd "$(dirname "$0")/.."
[ "$(id -u)" = 0 ] || { echo "bench mounts drives, which needs root"; exit 1; }
runs=${NEXLIN_BENCH_RUNS:-5} bin=$PWD/bin/nexlin
what=" ${NEXLIN_BENCH:-small large tiny survey deep resume memory} "
lab=$(mktemp -d /tmp/nexlin-bench-XXXXXX)
finish() { for d in a b c d; do mountpoint -q "$lab/$d" && umount "$lab/$d"; done; rm -rf "$lab"; }
trap finish EXIT
for d in a b; do
	truncate -s 16G "$lab/$d.img"
	mkfs.ext4 -q -F -m 0 -N 5000000 "$lab/$d.img"
	mkdir "$lab/$d"
	mount -o loop "$lab/$d.img" "$lab/$d"
done

now() { date +%s.%N; }
median() { sort -n | awk '{v[NR]=$1} END {print v[int((NR+1)/2)]}'; }
cold() { sync; echo 3 >/proc/sys/vm/drop_caches; }
wanted() { [[ $what == *" $1 "* ]]; }
ours=() theirs=() ratios=()
took() { # OURS THEIRS, in seconds
	ours+=("$1") theirs+=("$2") ratios+=("$(echo "scale=3; $1 / $2" | bc)")
}
row() {
	printf '| %s | %.2f s | %.2f s | %.2f |\n' "$1" "$(printf '%s\n' "${ours[@]}" | median)" \
		"$(printf '%s\n' "${theirs[@]}" | median)" "$(printf '%s\n' "${ratios[@]}" | median)"
	ours=() theirs=() ratios=()
}
nexlin() { "$bin" --state-dir "$lab/state" -q -y "$@" >/dev/null; }
# back takes the last run back and leaves the drive empty.
back() {
	nexlin undo "$("$bin" --state-dir "$lab/state" history --json | sed -n 's/.*"id": "\(.*\)".*/\1/p' | head -n 1)"
	rm -rf "$lab/b/"* "$lab/b/".[!.]* "$lab/state"
}

# pair NAME FOLDER HAND [FLAG…]: HAND copies $1 to $2 by hand.
pair() {
	local name=$1 folder=$2 hand=$3 t0 t1 t2 t3
	shift 3
	for _ in $(seq "$runs"); do
		cold
		t0=$(now); nexlin move "$folder" --into "$lab/b" "$@"; t1=$(now)
		back
		cold
		t2=$(now); $hand "$folder" "$lab/b/copy"; t3=$(now)
		rm -rf "$lab/b/copy"
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "$name"
}

copy_sync() { cp -a "$1" "$2" && sync -f "$2"; }
by_hand() {
	cp -a "$1" "$2" && sync -f "$2"
	(cd "$1" && find . -type f -print0 | sort -z | xargs -0 sha256sum) >"$lab/one"
	(cd "$2" && find . -type f -print0 | sort -z | xargs -0 sha256sum) >"$lab/two"
	cmp "$lab/one" "$lab/two" && mv "$1" "$1.old" && ln -s "$2" "$1" && rm "$1" && mv "$1.old" "$1"
}

# tiny DIR COUNT: so many files of a few bytes, two hundred a directory.
tiny() {
	mkdir -p "$1"
	seq "$2" | awk -v dir="$1" '{d = dir "/" int($1 / 200); if (d != last) {system("mkdir \"" d "\""); last = d}; f = d "/file " $1; print "content " $1 > f; close(f)}'
}

# peak PID: the most memory it had resident, in KiB.
peak() {
	local most=0 k
	while k=$(sed -n 's/VmHWM:[[:space:]]*\([0-9]*\) kB/\1/p' "/proc/$1/status" 2>/dev/null) && [ -n "$k" ]; do
		most=$k
		sleep 0.05
	done
	echo "$most"
}

echo "| work | nexlin | by hand | ratio |"
echo "| --- | --- | --- | --- |"
if wanted small; then
	cp -a "$(go env GOROOT)" "$lab/a/go"
	pair "move, Go's tree; against \`cp -a\` + \`sync\`" "$lab/a/go" copy_sync
	pair "the same with \`--digest blake3\`" "$lab/a/go" copy_sync --digest blake3
	pair "move, Go's tree; against \`cp -a\`, \`sync\`, \`sha256sum\` of both and compare, \`mv\`, \`ln -s\`" "$lab/a/go" by_hand
	rm -rf "$lab/a/go"
fi
if wanted large; then
	mkdir "$lab/a/large"
	head -c 1536M /dev/urandom >"$lab/a/large/one"
	head -c 1536M /dev/urandom >"$lab/a/large/two"
	pair "move, 3 GiB in two files; against \`cp -a\` + \`sync\`" "$lab/a/large" copy_sync
	pair "the same with \`--digest blake3\`" "$lab/a/large" copy_sync --digest blake3
	pair "move, 3 GiB; against the whole by hand" "$lab/a/large" by_hand
	rm -rf "$lab/a/large"
fi
if wanted tiny || wanted survey; then
	tiny "$lab/a/tiny" 200000
fi
if wanted tiny; then
	pair "move, 200,000 tiny files; against \`cp -a\` + \`sync\`" "$lab/a/tiny" copy_sync
fi
if wanted survey; then
	for _ in $(seq "$runs"); do
		du -s "$lab/a/tiny" >/dev/null
		t0=$(now); nexlin survey "$lab/a"; t1=$(now)
		t2=$(now); du -s "$lab/a" >/dev/null; t3=$(now)
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "survey, 200,000 files, warm; against \`du -s\`"
fi
rm -rf "$lab/a/tiny"
# deep NAME FOLDER: reading a target by check --deep and by sha256sum.
deep() {
	nexlin move "$2" --into "$lab/b" --digest "${3:-sha256}"
	local t0 t1 t2 t3 target
	target=$lab/b/$(basename "$2")
	for _ in $(seq "$runs"); do
		cold
		t0=$(now); nexlin check --deep; t1=$(now)
		cold
		t2=$(now); (cd "$target" && find . -type f -print0 | xargs -0 sha256sum) >/dev/null; t3=$(now)
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	back
	row "$1"
}
if wanted deep; then
	cp -a "$(go env GOROOT)" "$lab/a/go"
	deep "check --deep, Go's tree; against \`sha256sum\` of the same files" "$lab/a/go"
	rm -rf "$lab/a/go"
	mkdir "$lab/a/large"
	head -c 1536M /dev/urandom >"$lab/a/large/one"
	head -c 1536M /dev/urandom >"$lab/a/large/two"
	deep "check --deep, 3 GiB in two files; against the same" "$lab/a/large"
	rm -rf "$lab/a/large"
fi
# stopped FOLDER COUNT: a move that is killed once its copy has COUNT directories.
stopped() {
	local pid
	"$bin" --state-dir "$lab/state" -q -y move "$1" --into "$lab/b" >/dev/null 2>&1 &
	pid=$!
	until [ "$(find "$lab/b/.nexlin-part-"* -maxdepth 0 -printf '%n\n' 2>/dev/null || echo 0)" -ge $(($2 + 2)) ]; do
		sleep 0.05
	done
	kill -9 $pid
	wait $pid 2>/dev/null || true
}
if wanted resume; then
	tiny "$lab/a/sparse" 100000
	find "$lab/a/sparse" -type f -print0 | xargs -0 truncate -s 107374
	for _ in $(seq "$runs"); do
		cold
		t2=$(now); nexlin move "$lab/a/sparse" --into "$lab/b"; t3=$(now)
		back
		cold
		stopped "$lab/a/sparse" 450
		cold
		t0=$(now); nexlin resume; t1=$(now)
		back
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "resume, 100,000 sparse files of 10 GiB, killed at 90 %; against the whole move"
	rm -rf "$lab/a/sparse"
fi
if wanted memory; then
	# In memory, so that it does not take an hour: what is measured is not time.
	for d in c d; do
		mkdir "$lab/$d"
		mount -t tmpfs -o size=12G,nr_inodes=5000000 none "$lab/$d"
	done
	for n in 1000000 2000000; do
		tiny "$lab/c/many" $n
		"$bin" --state-dir "$lab/state" -q -y move "$lab/c/many" --into "$lab/d" --accept target-in-memory >/dev/null &
		echo "| peak memory of a move, $n entries | $(($(peak $!) / 1024)) MiB | – | – |"
		wait $!
		"$bin" --state-dir "$lab/state" -q -y discard-original many >/dev/null &
		echo "| peak memory of its \`discard-original\` | $(($(peak $!) / 1024)) MiB | – | – |"
		wait $!
		rm -rf "$lab/c/"* "$lab/c/".[!.]* "$lab/d/"* "$lab/d/".[!.]* "$lab/state"
	done
fi
