#!/usr/bin/env bash
# Takes docs/screenshots/fleet.png: the page of contrib/prometheus, as a real server shows
# it, about made-up numbers of five machines. Needs Debian's prometheus,
# prometheus-node-exporter and chromium; it says so where they are not.
set -euo pipefail
cd "$(dirname "$0")/.."
for tool in prometheus prometheus-node-exporter chromium; do
	command -v $tool >/dev/null || { echo "not taken: fleet (it needs $tool)" && exit 0; }
done
dir=$(mktemp -d)
trap 'kill $(jobs -p) 2>/dev/null || true; rm -rf "$dir"' EXIT
now=$(date +%s) port=9301 gib=$((1 << 30))
{
	echo 'global: {scrape_interval: 1s, evaluation_interval: 1s}'
	echo "rule_files: [$dir/alerts.yaml]"
	echo 'scrape_configs:'
	echo '- job_name: laptops'
	echo '  static_configs:'
} >"$dir/prometheus.yml"
sed 's/for: .*/for: 2s/' contrib/prometheus/nexlin-alerts.yaml >"$dir/alerts.yaml"

# machine NAME AGE GOOD AWAY BROKEN UNFINISHED DRIVE SIZE FREE [REDIRECT SIZE HELD READ BAD]…:
# ages in seconds, sizes in GiB, READ in days; a size of 0 is a drive that is away.
machine() {
	local name=$1 age=$2 good=$3 away=$4 broken=$5 unfinished=$6 drive="drive=\"$7\",id=\"$1\"" size=$8 free=$9
	shift 9
	mkdir "$dir/$name"
	{
		for state in good away elsewhere broken split detached unfinished; do
			echo "nexlin_redirects{state=\"$state\"} $((${!state:-0}))"
		done
		echo "nexlin_drive_present{$drive} $((size > 0))"
		if [ "$size" -gt 0 ]; then
			echo "nexlin_drive_size_bytes{$drive} $((size * gib))"
			echo "nexlin_drive_free_bytes{$drive} $((free * gib))"
		fi
		while [ $# -gt 0 ]; do
			echo "nexlin_redirect_bytes{redirect=\"$1\"} $(($2 * gib))"
			echo "nexlin_held_bytes{redirect=\"$1\"} $(($3 * gib))"
			if [ "$4" -gt 0 ]; then
				echo "nexlin_deep_check_timestamp_seconds{redirect=\"$1\"} $((now - $4 * 86400))"
				echo "nexlin_deep_check_bad_entries{redirect=\"$1\"} $5"
			fi
			shift 5
		done
		echo "nexlin_check_timestamp_seconds $((now - age))"
	} >"$dir/$name/nexlin.prom"
	prometheus-node-exporter --collector.disable-defaults --collector.textfile \
		"--collector.textfile.directory=$dir/$name" --web.listen-address=127.0.0.1:$port >/dev/null 2>&1 &
	echo "  - {targets: [\"127.0.0.1:$port\"], labels: {instance: $name}}" >>"$dir/prometheus.yml"
	port=$((port + 1))
}

machine skua 340 4 0 0 0 BASALT 118 61 ines-pictures 31 0 9 0 ines-recordings 18 0 0 0 tomas-pictures 8 0 0 0
machine dunlin 700 3 0 1 0 BASALT 118 4 wren-pictures 64 0 41 2 wren-recordings 22 22 0 0
machine whimbrel 1200 0 4 0 0 DUNE 0 0 ana-pictures 12 0 0 0 ana-recordings 9 0 0 0
machine phalarope 95 3 0 0 1 BASALT 118 40 luis-pictures 40 40 120 0
machine turnstone 32400 4 0 0 0 BASALT 236 190 ines-pictures 30 0 0 0
prometheus "--config.file=$dir/prometheus.yml" --web.console.templates="$PWD/contrib/prometheus" \
	--storage.tsdb.path="$dir/data" --web.listen-address=127.0.0.1:9300 >/dev/null 2>&1 &
sleep 12
chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
	--disable-component-update --disable-sync --user-data-dir="$dir/chromium" --window-size=1280,800 \
	--hide-scrollbars --screenshot="$PWD/docs/screenshots/fleet.png" \
	http://127.0.0.1:9300/consoles/nexlin.html >/dev/null 2>&1
