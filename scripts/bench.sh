#!/usr/bin/env bash
# Measures whole commands against what one would do by hand with coreutils,
# in turn, on two loop-mounted ext4 drives (root). Prints the median of each
# and the median of the ratios, pair by pair; as JSON in build/bench.json, and
# what is a tenth slower than in docs/benchmarks.json is told at the end.
# NEXLIN_BENCH_RUNS says how many pairs (5); NEXLIN_BENCH names what is run, of:
# small large tiny survey deep back discard check resume memory growth.
set -euo pipefail
cd "$(dirname "$0")/.."
[ "$(id -u)" = 0 ] || { echo "bench mounts drives, which needs root"; exit 1; }
runs=${NEXLIN_BENCH_RUNS:-5} bin=$PWD/bin/nexlin
what=" ${NEXLIN_BENCH:-small large tiny survey deep back discard check resume memory growth} "
figures=$PWD/build/bench.json committed=$PWD/docs/benchmarks.json rows=() growth=()
mkdir -p build
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
# row ID NAME: the medians of what took() was told.
row() {
	local o t r
	o=$(printf '%s\n' "${ours[@]}" | median) t=$(printf '%s\n' "${theirs[@]}" | median)
	r=$(printf '%s\n' "${ratios[@]}" | median)
	LC_ALL=C printf '| %s | %.2f s | %.2f s | %.2f |\n' "$2" "$o" "$t" "$r"
	rows+=("$(LC_ALL=C printf '"%s": {"nexlin": %.3f, "by_hand": %.3f, "ratio": %.3f}' "$1" "$o" "$t" "$r")")
	ours=() theirs=() ratios=()
}
# machine: what the figures depend on.
machine() {
	local sha=false
	grep -qwE 'sha_ni|sha2' /proc/cpuinfo && sha=true
	dd if=/dev/zero of="$lab/speed" bs=4M count=128 oflag=direct 2>"$lab/said"
	local write read
	write=$(sed -n 's/.* s, \(.*\)$/\1/p' "$lab/said")
	echo 3 >/proc/sys/vm/drop_caches
	dd if="$lab/speed" of=/dev/null bs=4M iflag=direct 2>"$lab/said"
	read=$(sed -n 's/.* s, \(.*\)$/\1/p' "$lab/said")
	rm "$lab/speed"
	printf '"processors": %d, "sha_instructions": %s, "device_writes": "%s", "device_reads": "%s"' "$(nproc)" $sha \
		"$write" "$read"
}
nexlin() { "$bin" --state-dir "$lab/state" -q -y "$@" >/dev/null; }
# back takes the last run back and leaves the drive empty.
back() {
	nexlin undo "$("$bin" --state-dir "$lab/state" history --json | sed -n 's/.*"id": "\(.*\)".*/\1/p' | head -n 1)"
	rm -rf "$lab/b/"* "$lab/b/".[!.]* "$lab/state"
}

# pair ID NAME FOLDER HAND [FLAG…]: HAND copies $1 to $2 by hand.
pair() {
	local id=$1 name=$2 folder=$3 hand=$4 t0 t1 t2 t3
	shift 4
	for _ in $(seq "$runs"); do
		cold
		t0=$(now); nexlin move "$folder" --into "$lab/b" "$@"; t1=$(now)
		back
		cold
		t2=$(now); $hand "$folder" "$lab/b/copy"; t3=$(now)
		rm -rf "$lab/b/copy"
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "$id" "$name"
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

machine=$(machine)
echo "$machine"
echo "| work | nexlin | by hand | ratio |"
echo "| --- | --- | --- | --- |"
if wanted small; then
	cp -a "$(go env GOROOT)" "$lab/a/go"
	pair move-go "move, Go's tree; against \`cp -a\` + \`sync\`" "$lab/a/go" copy_sync
	pair move-go-sha256 "the same with \`--digest sha256\`" "$lab/a/go" copy_sync --digest sha256
	pair move-go-whole "move, Go's tree; against \`cp -a\`, \`sync\`, \`sha256sum\` of both and compare, \`mv\`, \`ln -s\`" "$lab/a/go" by_hand
	rm -rf "$lab/a/go"
fi
large() {
	mkdir "$lab/a/large"
	head -c 1G /dev/urandom >"$lab/a/large/one"
	head -c 1G /dev/urandom >"$lab/a/large/two"
}
if wanted large; then
	large
	pair move-large "move, 2 GiB in two files; against \`cp -a\` + \`sync\`" "$lab/a/large" copy_sync
	pair move-large-sha256 "the same with \`--digest sha256\`" "$lab/a/large" copy_sync --digest sha256
	pair move-large-whole "move, 2 GiB; against the whole by hand" "$lab/a/large" by_hand
	rm -rf "$lab/a/large"
fi
if wanted tiny || wanted survey; then
	tiny "$lab/a/tiny" 50000
fi
if wanted tiny; then
	pair move-tiny "move, 50,000 tiny files; against \`cp -a\` + \`sync\`" "$lab/a/tiny" copy_sync
	pair move-tiny-whole "the same; against the whole by hand" "$lab/a/tiny" by_hand
fi
if wanted survey; then
	for how in cold warm; do
		du -s "$lab/a" >/dev/null
		for _ in $(seq "$runs"); do
			[ $how = warm ] || cold
			t0=$(now); nexlin survey "$lab/a/tiny"; t1=$(now)
			[ $how = warm ] || cold
			t2=$(now); du -s "$lab/a/tiny" >/dev/null; t3=$(now)
			took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
		done
		row survey-$how "survey, 50,000 files in 250 folders, $how; against \`du -s\`"
	done
fi
if wanted back || wanted discard; then
	cp -a "$(go env GOROOT)" "$lab/a/go"
fi
# anew ends the redirect and leaves the drive empty.
anew() {
	rm -rf "$lab/b/"* "$lab/b/".[!.]* "$lab/a/".go.held-* "$lab/state"
}
if wanted back; then
	back_of() { # ID NAME [FLAG…]
		local id=$1 name=$2 t0 t1 t2 t3
		shift 2
		for _ in $(seq "$runs"); do
			nexlin move "$lab/a/go" --into "$lab/b"
			cold
			t0=$(now); nexlin bring-back go "$@"; t1=$(now)
			cold
			t2=$(now); copy_sync "$lab/a/go" "$lab/b/copy"; t3=$(now)
			took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
			anew
		done
		row "$id" "$name"
	}
	back_of back-go "bring-back, Go's tree, nothing changed since; against \`cp -a\` + \`sync\`"
	back_of back-held "the same with \`--use-held\`" --use-held
fi
if wanted discard; then
	for _ in $(seq "$runs"); do
		nexlin move "$lab/a/go" --into "$lab/b"
		cold
		t0=$(now); nexlin discard-original go; t1=$(now)
		cp -a "$lab/b/go" "$lab/a/old"
		cold
		t2=$(now); diff -r "$lab/a/old" "$lab/b/go" && rm -r "$lab/a/old"; t3=$(now)
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
		rm "$lab/a/go"
		cp -a "$lab/b/go" "$lab/a/go"
		anew
	done
	row discard-go "discard-original, Go's tree; against \`diff -r\` and \`rm -r\`"
fi
rm -rf "$lab/a/go"
rm -rf "$lab/a/tiny"
# tried DIR: a file that is saved through each link in DIR is read where the link leads to.
tried() {
	local l at
	for l in "$1"/*; do
		at=$(readlink "$l")
		echo trial >"$l/.trial" && [ "$(<"$at/.trial")" = trial ] && rm "$at/.trial"
	done
}
# thousand ID NAME [FLAG…]: a check of a thousand redirects, made with those flags.
thousand() {
	local id=$1 name=$2 t0 t1 t2 t3
	shift 2
	mkdir "$lab/a/many"
	for i in $(seq 1000); do
		mkdir "$lab/a/many/f$i"
		echo "content $i" >"$lab/a/many/f$i/note"
	done
	nexlin move "$@" "$lab/a/many"/f* --into "$lab/b/many"
	for _ in $(seq "$runs"); do
		t0=$(now); nexlin check; t1=$(now)
		t2=$(now); tried "$lab/a/many"; t3=$(now)
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "$id" "$name"
	rm -rf "$lab/a/many" "$lab/b/"* "$lab/b/".[!.]* "$lab/state"
}
if wanted check; then
	thousand check "check, 1,000 redirects, each tried; against the same trials in a shell" --discard-original
	thousand check-held "check, 1,000 redirects with their originals held, each looked through; against the trials alone"
fi
# deep ID NAME FOLDER [FLAG…]: reading a target by check --deep and by sha256sum; the flags are the
# move's. The folder is gone afterwards.
deep() {
	nexlin move "${@:3}" --into "$lab/b"
	local t0 t1 t2 t3 target
	target=$lab/b/$(basename "$3")
	for _ in $(seq "$runs"); do
		cold
		t0=$(now); nexlin check --deep; t1=$(now)
		cold
		t2=$(now); (cd "$target" && find . -type f -print0 | xargs -0 sha256sum) >/dev/null; t3=$(now)
		took "$(echo "$t1 - $t0" | bc)" "$(echo "$t3 - $t2" | bc)"
	done
	row "$1" "$2"
	rm -rf "$3" "$(dirname "$3")/".*.held-* "$lab/b/"* "$lab/b/".[!.]* "$lab/state"
}
if wanted deep; then
	cp -a "$(go env GOROOT)" "$lab/a/go"
	deep deep-go "check --deep, Go's tree; against \`sha256sum\` of the same files" "$lab/a/go"
	tiny "$lab/a/tiny" 50000
	deep deep-tiny "check --deep, 50,000 tiny files; against the same" "$lab/a/tiny" --discard-original
	tiny "$lab/a/tiny" 50000
	deep deep-tiny-held "the same with their originals held, which are looked through, too" "$lab/a/tiny"
	large
	deep deep-large "check --deep, 2 GiB in two files; against the same" "$lab/a/large"
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
	row resume "resume, 100,000 sparse files of 10 GiB, killed at 90 %; against the whole move"
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
# took_all COMMAND…: seconds and most resident MiB of one process that begins cold, and of what it
# leaves to be flushed.
took_all() {
	local pid t0 t1
	cold
	t0=$(now)
	"$@" >/dev/null &
	pid=$!
	peak $pid >"$lab/peak" &
	wait $pid
	sync -f "$lab/b"
	t1=$(now)
	wait
	printf '"seconds": %.2f, "mib": %.1f' "$(echo "$t1 - $t0" | bc)" "$(echo "$(cat "$lab/peak") / 1024" | bc -l)"
}
if wanted growth; then
	for n in 10000 100000 1000000; do
		tiny "$lab/a/grown" $n
		o=$(took_all "$bin" --state-dir "$lab/state" -q -y move "$lab/a/grown" --into "$lab/b")
		back
		t=$(took_all cp -a "$lab/a/grown" "$lab/b/copy")
		rm -rf "$lab/b/copy" "$lab/a/grown"
		echo "$n files: nexlin $o, cp $t"
		growth+=("{\"files\": $n, \"nexlin\": {$o}, \"cp\": {$t}}")
	done
fi
[ $((${#rows[@]} + ${#growth[@]})) -gt 0 ] || exit 0
{
	printf '{\n  "machine": {%s},\n  "rows": {\n' "$machine"
	for i in "${!rows[@]}"; do
		printf '    %s%s\n' "${rows[$i]}" "$([ $((i + 1)) -lt ${#rows[@]} ] && echo ,)"
	done
	printf '  },\n  "growth": [\n'
	for i in "${!growth[@]}"; do
		printf '    %s%s\n' "${growth[$i]}" "$([ $((i + 1)) -lt ${#growth[@]} ] && echo ,)"
	done
	printf '  ]\n}\n'
} >"$figures"
echo
echo "as JSON: $figures"
# What is a tenth slower, against the same by hand, than the figures that are committed.
if [ -e "$committed" ]; then
	awk -F'"' '/"ratio"/ {r = $0; sub(/.*"ratio": /, "", r); sub(/}.*/, "", r)
		if (FILENAME == ARGV[1]) {was[$2] = r} else if (($2 in was) && r > was[$2] * 1.1) {
			printf "slower than before: %s, ratio %.2f, was %.2f\n", $2, r, was[$2]}}' "$committed" "$figures"
fi
