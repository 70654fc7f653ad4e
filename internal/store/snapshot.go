package store

import (
	"maps"

	"ferry/internal/core/site"
)

// Snapshot is the site at one moment with the versions of its objects: what is
// read from one snapshot belongs together. Nothing of it ever changes.
type Snapshot struct {
	Site *site.Site
	// Seq is the number of the last change.
	Seq              int64
	CanUndo, CanRedo bool

	versions map[group]map[string]int64
}

// group is the objects of one kind; those of points, by their device.
type group struct {
	kind   site.Kind
	parent string
}

func groupOf(kind site.Kind, parent string) group {
	if kind != site.KindPoint {
		parent = ""
	}
	return group{kind, parent}
}

// Versions returns the journal number of the last change of each object of a
// kind; for points, of those of the device parent. It must not be changed.
func (n *Snapshot) Versions(kind site.Kind, parent string) map[string]int64 {
	return n.versions[groupOf(kind, parent)]
}

// after returns the versions with changes made as journal row seq.
func (n *Snapshot) after(changes []site.Change, seq int64) map[group]map[string]int64 {
	versions := maps.Clone(n.versions)
	copied := map[group]bool{}
	for _, c := range changes {
		g := groupOf(c.Kind, c.Parent)
		if !copied[g] {
			versions[g] = maps.Clone(versions[g])
			copied[g] = true
		}
		if versions[g] == nil {
			versions[g] = map[string]int64{}
		}
		if c.After == nil {
			delete(versions[g], c.ID)
		} else {
			versions[g][c.ID] = seq
		}
	}
	return versions
}
