#!/bin/sh
# Installs the programs that cards are proven on: the packages that the proofs name. Only as root on
# Debian; elsewhere the proofs say what is missing.
set -u
[ "$(id -u)" = 0 ] && command -v apt-get >/dev/null 2>&1 || exit 0
packages=$(sed -n 's/^packages: \[\(.*\)\]$/\1/p' internal/card/shipped/proofs/*.yaml | tr ',' '\n' | tr -d ' ' | sort -u)
missing=
for p in $packages; do
	dpkg -s "$p" >/dev/null 2>&1 || missing="$missing $p"
done
[ -z "$missing" ] && exit 0
echo "installing for the proofs:$missing"
# The proofs start servers themselves; none is to run because of them (invoke-rc.d(8)).
if [ ! -e /usr/sbin/policy-rc.d ]; then
	trap 'rm -f /usr/sbin/policy-rc.d' EXIT
	printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod 755 /usr/sbin/policy-rc.d
fi
apt-get update -qq >/dev/null 2>&1 || true
# shellcheck disable=SC2086 # several words are meant
DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $missing >/dev/null 2>&1 ||
	echo "some of them could not be installed"
