package screen

import (
	"strings"

	"nexlin/internal/pathtext"
	"nexlin/internal/picture"
)

// signs are how a layer looks in text.
var signs = map[picture.Kind]string{picture.Other: "▒", picture.Folder: "█", picture.Held: "▓", picture.Free: "░",
	picture.Reserve: "·"}

// ShowStrata draws each drive as two bars, before and after, with their layers in numbers.
func (a *Lines) ShowStrata(pairs []picture.Pair) {
	const wide = 40
	for _, p := range pairs {
		a.Print("%s  %s", Bold.Render(pathtext.Show(p.Drive)), pathtext.Size(p.Size))
		for _, c := range []picture.Column{p.Before, p.After} {
			a.Print("  %s", pathtext.Show(c.Title))
			bar, used := "", 0
			var names []string
			for _, l := range c.Layers {
				n := int(l.Bytes * wide / max(p.Size, 1))
				if n == 0 && l.Bytes > p.Size/200 {
					n = 1
				}
				n = min(n, wide-used)
				used += n
				bar += strings.Repeat(signs[l.Kind], n)
				if l.Bytes > 0 {
					names = append(names, signs[l.Kind]+" "+pathtext.Show(l.Name)+" "+pathtext.Size(l.Bytes))
				}
			}
			a.Print("    %s", bar)
			a.text(a.Out, "    ", strings.Join(names, ", "))
		}
	}
}
