package standin

import "strings"

// Card is the card that ines has written for one of her programs, with the
// path of the program file that has the stand-ins in it.
func Card(name, program string) string { return strings.ReplaceAll(cards[name], "NEXLIN", program) }

// cards are those that ines has written for her programs. NEXLIN stands for
// the program file that has the stand-ins in it.
var cards = map[string]string{
	"callroost": `card: callroost
about: Backups of the field handset.
family: device-backup
folders:
  - linux: "{data}/callroost"
    growth: 1.4
`,
	"mudflat": `card: mudflat
about: The survey team's shared folder.
family: sync
folders:
  - linux: "{home}/Survey"
    whole:
      setting: {file: "{config}/mudflat/mudflat.toml", format: toml, at: /keeps}
      is: everything
settings:
  - file: "{config}/mudflat/mudflat.toml"
    format: toml
    at: /folder
in-use:
  command: {run: [NEXLIN, standin, mudflat, status], answer: at rest}
before:
  - run: [NEXLIN, standin, mudflat, stop]
    within: 10s
after:
  - run: [NEXLIN, standin, mudflat, start]
    within: 10s
facts:
  - name: files to fetch again
    command: {run: [NEXLIN, standin, mudflat, pending]}
    must-be: "0"
`,
	"brooder": `card: brooder
about: Nests of analysis jobs, which their engine has registered.
family: application-data
handover:
  list: {run: [NEXLIN, standin, brooder, list]}
  resting: resting
  stay: [brooder-own]
  carry-out: {run: [NEXLIN, standin, brooder, carry-out, "{store}", "{archive}"]}
  sign-off: {run: [NEXLIN, standin, brooder, sign-off, "{store}"]}
  carry-in: {run: [NEXLIN, standin, brooder, carry-in, "{store}", "{archive}", "{place}"]}
  locked: locked for now
facts:
  - name: job limit
    command: {run: [NEXLIN, standin, brooder, limit, "{store}"]}
    set: {run: [NEXLIN, standin, brooder, limit, "{store}", "{value}"]}
  - name: order of nests
    command: {run: [NEXLIN, standin, brooder, order]}
    set: {run: [NEXLIN, standin, brooder, order, "{value}"]}
stays:
  - path: "{home}/Brooder"
    why: the engine would lose nests that are moved by hand
`,
	"sonogram": `card: sonogram
about: Spectrogram tiles, with their shelves in two settings files.
family: application-data
folders:
  - name: shelf
    linux: "{data}/sonogram/shelf"
    as: sonogram-shelf
settings:
  - file: "{config}/sonogram/sonogram.toml"
    format: toml
    at: /tiles/shelf
  - file: "{config}/sonogram/sonogram.toml"
    format: toml
    at: /tiles/index
  - file: "{config}/sonogram/shelves.json"
    format: json
    at: /shelves/*
after:
  - run: [NEXLIN, standin, sonogram, show]
    answer: no gaps
stays:
  - path: "{config}/sonogram"
    why: sonogram looks for its settings there and nowhere else
`,
}
