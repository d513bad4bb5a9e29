package planning

import (
	"slices"

	"nexlin/internal/engine"
	"nexlin/internal/handle"
	"nexlin/internal/pathtext"
	"nexlin/internal/places"
	"nexlin/internal/plan"
	"nexlin/internal/setting"
)

// FitBy lists the methods that fit a folder: a link always does, a setting
// where the system keeps one.
func FitBy(e *engine.Engine, path string) ([]string, error) {
	out := []string{plan.BySymlink}
	if handle.Windows {
		out = append(out, plan.ByJunction)
	}
	home := e.HomeOf(path)
	if home == "" {
		return out, nil
	}
	_, _, ok, err := setting.Location(home, path)
	if ok {
		out = append(out, plan.BySetting, plan.BySetting+"+"+plan.BySymlink)
	}
	return out, err
}

// ProfileFolders gives the profile folders of the kinds, or all of them.
func ProfileFolders(home string, kinds []string) ([]string, error) {
	profiles, err := setting.Profiles(places.Resolved(home))
	var out []string
	for _, p := range profiles {
		if slices.Contains(kinds, EveryProfile) || slices.Contains(kinds, p.Kind) {
			out = append(out, p.Path)
		}
	}
	return out, err
}

// EveryProfile stands for all profile folders that are there.
const EveryProfile = "all"

// ProfileMethods are those by which profile folders are led unless others are
// asked for: their settings, where the system keeps any, and a link.
func ProfileMethods() []string {
	switch {
	case len(setting.Kinds()) == 0:
		return []string{plan.BySymlink}
	case handle.Windows:
		return []string{plan.ByJunction, plan.BySetting}
	}
	return []string{plan.BySetting, plan.BySymlink}
}

// ProfileKinds lists what may be asked for.
func ProfileKinds() []string {
	out := append([]string{EveryProfile}, setting.Kinds()...)
	if len(out) == 1 { // a system without settings has the folders all the same
		out = append(out, "desktop", "documents", "downloads", "music", "pictures", "videos", "publicshare")
	}
	for _, k := range WithoutSetting {
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// PassedOver says why a folder that is one of all is none to move; empty if it is.
func PassedOver(path, home string) (string, error) {
	st, err := handle.Lstat(path)
	switch {
	case handle.Missing(err):
		return "is not there", nil
	case err != nil:
		return "", err
	case st.IsSymlink():
		return "is a link already", nil
	case !pathtext.Within(path, home):
		return "lies outside the home already", nil
	}
	return "", nil
}

// WithoutSetting are folders that people count among their profile folders,
// and for which this system keeps no location setting.
var WithoutSetting = []string{"contacts", "favorites", "links", "saved-games", "searches"}
