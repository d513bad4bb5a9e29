#!/usr/bin/env bash
# Takes the pictures in docs/screenshots/ from the demo data: each command is
# typed into a real terminal window on a virtual screen of 1280x800.
# Needs Xvfb, xterm and ImageMagick; as root on Debian it installs them.
set -euo pipefail
cd "$(dirname "$0")/.."
for tool in Xvfb:xvfb xterm:xterm import:imagemagick xdotool:xdotool; do
	command -v "${tool%%:*}" >/dev/null || missing="${missing:-} ${tool##*:}"
done
if [ -n "${missing:-}" ]; then
	[ "$(id -u)" = 0 ] && command -v apt-get >/dev/null || { echo "please install:$missing"; exit 1; }
	apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing fonts-dejavu-core >/dev/null
fi
out=$PWD/docs/screenshots scene=/tmp/kestrel-bay bin=$PWD/bin
mkdir -p "$out"
rm -rf "$scene"
finish() {
	kill ${term:-} ${screen:-} 2>/dev/null || true
	for d in skerry basalt; do mountpoint -q "$scene/windows/$d" && umount "$scene/windows/$d"; done
	rm -rf "$scene"
}
trap finish EXIT
env=$("$bin/nexlin" standin scene "$scene" --size small --no-color)
display=:97
Xvfb $display -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen=$!
sleep 1

rc=$scene/rc
{
	echo "$env"
	echo "PATH=$bin:\$PATH PS1='\[\e[1m\]ines@skerry\[\e[0m\]:~\$ ' TERM=xterm-256color"
	for program in callroost mudflat sonogram brooder; do echo "$program() { nexlin standin $program \"\$@\"; }"; done
	echo 'cd ~; clear'
} >"$rc"

# shot NAME TYPED…: types lines into a fresh terminal and takes a picture.
shot() {
	local name=$1
	shift
	DISPLAY=$display xterm -geometry 141x42+0+0 -fa 'DejaVu Sans Mono' -fs 11 -bg '#fbfaf6' -fg '#22262a' \
		-xrm 'XTerm*color1: #a3222b' -xrm 'XTerm*color2: #2d6a3a' -xrm 'XTerm*color3: #8a5a00' \
		-e bash --noprofile --rcfile "$rc" -i &
	term=$!
	sleep 1.2
	for line in "$@"; do
		case $line in
		key:*) DISPLAY=$display xdotool key "${line#key:}" ;;
		*) DISPLAY=$display xdotool type --delay 4 "$line" && DISPLAY=$display xdotool key Return ;;
		esac
		sleep "${pause:-1.2}"
	done
	DISPLAY=$display import -window root -depth 8 -define png:compression-level=9 "$out/$name.png"
	kill $term
	wait $term 2>/dev/null || true
}

shot drives 'nexlin drives' 'nexlin drives BASALT'
shot survey 'nexlin survey' 'nexlin survey --need ~/Pictures --need ~/Music'
shot inspect 'nexlin inspect ~/Pictures'
shot guided 'nexlin move' key:space key:Down key:space
pause=2.5 shot move 'nexlin move ~/Pictures --into BASALT:/ines --yes'
shot watch-over 'nexlin list' 'nexlin check --deep' 'nexlin try pictures' 'nexlin show pictures'
(
	eval "$env"
	"$bin/nexlin" standin callroost backup --day 2026-05-03
	echo 'May: listen at the north hide' >"$HOME/.local/share/callroost/sets/plan.txt"
	"$bin/nexlin" move "$HOME/.local/share/callroost" --into BASALT:/ines --yes -q
	"$bin/nexlin" discard-original callroost --yes -q
	"$bin/nexlin" standin drive pull BASALT
) >/dev/null 2>&1
pause=2 shot drive-away 'callroost backup --day 2026-05-04' 'nexlin check' 'nexlin list'
(
	eval "$env"
	"$bin/nexlin" standin callroost backup --day 2026-05-04 --begin-anew
	echo 'a plan for June' >"$HOME/.local/share/callroost/sets/plan.txt"
	"$bin/nexlin" standin drive plug BASALT "$scene/media/basalt"
) >/dev/null 2>&1
pause=2 shot mend 'nexlin mend pictures --yes' 'nexlin mend callroost --yes'
(
	eval "$env"
	sleep 4
	"$bin/nexlin" standin drive pull BASALT
	sleep 2
	"$bin/nexlin" standin drive plug BASALT "$scene/basalt"
) >/dev/null 2>&1 &
plug=$!
pause=9 shot watch 'nexlin watch'
wait $plug # the next commands want the drive
(
	eval "$env"
	"$bin/nexlin" mend --yes -q
	"$bin/nexlin" discard-original callroost --yes -q
) >/dev/null 2>&1
pause=2.5 shot discard 'nexlin list --held' 'nexlin discard-original pictures' 'y'
pause=2.5 shot bring-back 'nexlin bring-back pictures --yes' 'nexlin history'
(
	eval "$env"
	"$bin/nexlin" move --profile documents,desktop --into BASALT:/ines --by setting+symlink --yes -q
) >/dev/null 2>&1
pause=2.5 shot card 'mudflat start; clear' 'nexlin move card:mudflat --into BASALT:/ines --yes -q' 'mudflat pending'
pause=2.5 shot handover 'nexlin move card:brooder --store kestrel-calls --into BASALT:/ines --yes -q' 'brooder list'
pause=2.5 shot pack "nexlin pack ~/Music --output $scene/dune/music.tar.zst --yes -q" "zstd -dc $scene/dune/music.tar.zst | tar -tvf - | head -5" "nexlin unpack $scene/dune/music.tar.zst --into DUNE:/ --yes -q"
(
	eval "$env"
	"$bin/nexlin" standin mudflat stop
	for name in documents desktop mudflat; do
		"$bin/nexlin" discard-original "$name" --accept changed-since --yes -q
		"$bin/nexlin" bring-back "$name" --yes -q
	done
	"$bin/nexlin" standin mudflat stop
	"$bin/nexlin" list
) >/dev/null 2>&1
# The report, in a browser.
if command -v chromium >/dev/null; then
	(
		eval "$env"
		"$bin/nexlin" move "$HOME/Music" --into BASALT:/ines --yes -q
		"$bin/nexlin" move "$HOME/Documents" --into DUNE:/ines --yes -q
		"$bin/nexlin" report --html "$scene/report.html"
	) >/dev/null 2>&1
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking \
		--disable-component-update --disable-sync --user-data-dir="$scene/chromium" --window-size=1280,800 \
		--hide-scrollbars --screenshot="$out/report.png" "file://$scene/report.html" >/dev/null 2>&1
else
	echo "not taken: report (it needs chromium)"
fi
# Several accounts, known to this terminal alone.
if [ "$(id -u)" = 0 ]; then
	crowd=/run/kestrel-bay-accounts
	rm -rf "$crowd" && mkdir -p "$crowd"
	{
		head -1 /etc/passwd
		n=2001
		for name in ines tomas wren; do
			echo "$name:x:$n:$n::$scene/many/$name:/bin/bash"
			mkdir -p "$scene/many/$name/Pictures" "$scene/many/$name/Calls"
			echo "a tern" >"$scene/many/$name/Pictures/tern.raw"
			echo "a call" >"$scene/many/$name/Calls/one.rec"
			chown -hR $n:$n "$scene/many/$name"
			n=$((n + 1))
		done
	} >"$crowd/passwd"
	cat >"$crowd/accounts.yaml" <<-'END'
		accounts-file: 1
		rules:
		- for: {people: true, except: [wren]}
		  redirects:
		  - {profile: pictures, into: "DUNE:/{account}"}
		  - {folder: ~/Recordings, into: "DUNE:/{account}"}
		- for: {names: [wren]}
		  redirects:
		  - {folder: ~/Calls, into: "DUNE:/{account}"}
		  - {folder: ~/Logs, into: "BASALT:/{account}", missing: skip}
	END
	was=$(cat "$rc")
	{
		echo "export PS1='\[\e[1m\]root@skerry\[\e[0m\]:~# ' NEXLIN_STATE_DIR=$scene/state-of-many"
		echo "nexlin() { unshare -m sh -c 'mount --bind $crowd/passwd /etc/passwd; exec $bin/nexlin \"\$@\"' sh \"\$@\"; }"
		echo "cd $crowd; clear"
	} >>"$rc"
	pause=2.5 shot accounts 'nexlin accounts check accounts.yaml' 'nexlin accounts apply accounts.yaml --yes' \
		"rm $scene/many/tomas/Pictures; nexlin accounts check accounts.yaml"
	echo "$was" >"$rc"
	rm -rf "$crowd"
fi
# Two drives of Windows, as a rescue system mounts them.
if [ "$(id -u)" = 0 ] && command -v ntfs-3g mkfs.ntfs >/dev/null; then
	mkdir -p "$scene/windows"
	for d in skerry basalt; do
		truncate -s 96M "$scene/windows/$d.img"
		mkfs.ntfs -q -F -L "${d^^}" "$scene/windows/$d.img" >/dev/null 2>&1
		mkdir "$scene/windows/$d"
		mount -t ntfs-3g -o loop "$scene/windows/$d.img" "$scene/windows/$d"
	done
	mkdir -p "$scene/windows/skerry/Users" "$scene/windows/basalt/ines"
	cp -r "$scene/skerry/home/ines/Music" "$scene/windows/skerry/Users/Music"
	pause=2.5 shot junction "unset NEXLIN_STANDIN_DRIVES; cd $scene/windows; clear" \
		"nexlin move skerry/Users/Music --into basalt/ines --by junction --as-seen 'D:\\' --name calls" 'y' 'nexlin check calls'
else
	echo "not taken: junction (it needs root and ntfs-3g)"
fi
mv "$scene/skerry/home/ines" "$scene/skerry/home/ines.old-laptop"
mv "$scene/state" "$scene/state.old-laptop"
mkdir -p "$scene/skerry/home/ines/.local/share/callroost/sets"
echo 'calls to listen for' >"$scene/skerry/home/ines/.local/share/callroost/sets/welcome.txt"
pause=2 shot restore-links 'nexlin restore-links BASALT --preview' 'nexlin restore-links BASALT --yes --accept hidden-place -q' 'nexlin list'
scripts/screenshot-fleet.sh
ls -l "$out"
