package drive

import "slices"

// dataVolume is where macOS mounts the writable half of the drive that it runs from.
const dataVolume = "/System/Volumes/Data"

// joined makes one drive of the two volumes that macOS runs from: a sealed one that is only
// read, mounted at /, and the one with everything that people have. Firmlinks show both
// as one tree, so a home has the device of the second below the path of the first. The
// drive is mounted at /, can be written, has the room and the identity of the second and
// the name of the first. Other mounts stay as they are, and so does a list without
// such a pair.
func joined(all []Drive) []Drive {
	sealed, data := -1, -1
	for i := range all {
		switch {
		case all[i].Mount == "/" && all[i].ReadOnly:
			sealed = i
		case all[i].Mount == dataVolume:
			data = i
		}
	}
	if sealed < 0 || data < 0 {
		return all
	}
	d := all[data]
	d.Mount, d.pseudo, d.reach = "/", false, reach{dataVolume, all[sealed].mountID}
	out := slices.Clone(all)
	out[sealed] = d
	return slices.Delete(out, data, data+1)
}
