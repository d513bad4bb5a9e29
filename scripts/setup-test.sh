#!/bin/sh
# Installs what the drive lab of the tests uses: file-system tools, stock
# checkers, and a C compiler for the race detector. Only as root on Debian;
# elsewhere it says what is missing, and the tests say what they skip.
set -u
missing=
need() { # need COMMAND PACKAGE…
	command -v "$1" >/dev/null 2>&1 && return
	shift
	missing="$missing $*"
}
PATH=$PATH:/sbin:/usr/sbin
need mkfs.ext4 e2fsprogs
need mkfs.xfs xfsprogs
need mkfs.btrfs btrfs-progs
need mount mount
need unshare util-linux
need mkfs.ntfs ntfs-3g
need mkfs.exfat exfatprogs
need mount.exfat-fuse exfat-fuse
need setfacl acl
need setfattr attr
need mtree mtree-netbsd
need sha256sum coreutils
need b3sum b3sum
need zstd zstd
need tar tar
need dbus-daemon dbus-daemon
need xdg-user-dir xdg-user-dirs
need gcc gcc libc6-dev
need wine wine wine64
need x86_64-w64-mingw32-gcc gcc-mingw-w64-x86-64
need ip iproute2
need chromium chromium fonts-dejavu-core
need fish fish
[ -e /usr/share/bash-completion/bash_completion ] || missing="$missing bash-completion"
need zsh zsh
need desktop-file-validate desktop-file-utils
need sshd openssh-server
need ssh openssh-client
need ansible-playbook ansible-core
need prometheus prometheus
need /usr/lib/dovecot/imap dovecot-imapd
need prometheus-node-exporter prometheus-node-exporter
[ -e /usr/lib/python3/dist-packages/apt ] || missing="$missing python3-apt"
# The accessibility check of pages: one file of one module, at the version it is used at.
if command -v npm >/dev/null 2>&1 && [ ! -e build/npm/node_modules/axe-core/axe.min.js ]; then
	npm install --prefix build/npm --no-save --no-audit --no-fund --silent axe-core@4.10.3 >/dev/null 2>&1 ||
		echo "axe-core could not be had from npm; pages are not checked for accessibility"
fi
[ -z "$missing" ] && exit 0
if [ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1; then
	echo "installing for the tests:$missing"
	apt-get update -qq >/dev/null 2>&1 || true
	# The tests start servers themselves; none is to run because of them (invoke-rc.d(8)).
	if [ ! -e /usr/sbin/policy-rc.d ]; then
		trap 'rm -f /usr/sbin/policy-rc.d' EXIT
		printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod 755 /usr/sbin/policy-rc.d
	fi
	# shellcheck disable=SC2086 # several words are meant
	DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null 2>&1 ||
		echo "could not install all of them; the tests that need them are skipped"
	for unit in ssh prometheus prometheus-node-exporter; do # nor after the next start
		case $missing in
		*$unit*) systemctl disable "$unit" >/dev/null 2>&1 || true ;;
		esac
	done
else
	echo "not installed, so the tests that need them are skipped:$missing"
fi
exit 0
