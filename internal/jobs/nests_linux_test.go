//go:build faults && linux

package jobs

import (
	"os"
	"strings"

	"github.com/stretchr/testify/require"

	"nexlin/internal/card"
	"nexlin/internal/finding"
	"nexlin/internal/handover"
	"nexlin/internal/planning"
)

// nests is an engine: what it has stands in the file nests, a line each. Beside a file called odd
// its archives are of a kind of its own.
const nests = `#!/bin/sh
set -e
dir=$(dirname "$0")/dune name=$2 tab=$(printf '\t')
odd() { if [ -e "$dir/odd" ]; then base64 $1; else cat; fi; }
place=$(sed -n "s|^$name${tab}resting$tab||p" "$dir/nests")
case $1 in
list) cat "$dir/nests" ;;
carry-out) (cd "$place" && find * -type f | tar -cT -) | odd >"$3" ;;
verify) odd -d <"$2" | tar -t >"$dir/verified" && rm "$dir/verified" ;;
sign-off)
	rm -rf "$place"
	sed -i "/^$name$tab/d" "$dir/nests"
	;;
carry-in)
	[ -z "$place" ]
	mkdir -p "$4"
	odd -d <"$3" | tar -C "$4" -x
	printf '%s\tresting\t%s\n' "$name" "$4" >>"$dir/nests"
	;;
esac
`

const nestsCard = `card: nests
about: Nests, which their engine has registered.
family: application-data
handover:
  list: {run: [ENGINE, list]}
  resting: resting
  carry-out: {run: [ENGINE, carry-out, "{store}", "{archive}"]}
  verify: {run: [ENGINE, verify, "{archive}"]}
  sign-off: {run: [ENGINE, sign-off, "{store}"]}
  carry-in: {run: [ENGINE, carry-in, "{store}", "{archive}", "{place}"]}
`

// brood has the engine know a nest.
func brood(w *world) {
	w.Helper()
	for name, text := range map[string]string{"engine": nests, "dune/nests": "charts\tresting\t" +
		w.at("skerry/Charts") + "\n"} {
		require.NoError(w, os.WriteFile(w.at(name), []byte(text), 0o755))
	}
	require.NoError(w, os.Remove(w.at("skerry/Charts/l"))) // an engine carries files
}

// handsOver hands the nest over.
func handsOver(w *world) func() error {
	w.Helper()
	c, err := card.Parse("nests.yaml", []byte(strings.ReplaceAll(nestsCard, "ENGINE", w.at("engine"))))
	require.NoError(w, err)
	w.Cards = []card.Card{*c}
	u, err := planning.CardFor(*c, w.at("skerry"))
	if err != nil {
		return w.planned(err, nil)
	}
	return w.does(handover.PlanHandover(ctx, w.Engine, u, "charts", planning.MoveOptions{Into: w.at("basalt/ines"),
		Accept: []finding.Code{finding.TargetInMemory}}))
}
