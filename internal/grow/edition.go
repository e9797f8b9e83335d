package grow

// Edition is a set of rules by which rows are generated: a catalogue of kinds, and draws, whose keys contain its name.
// The rows of an edition never change: what would change them belongs in a new edition, beside the old ones.
type Edition struct {
	Name string // as plans write it
	// Revision counts the changes of its rows before it was frozen. The journal records it, so that a load is never
	// compared with rows that it did not write.
	Revision int
	Kinds    []Kind // its catalogue, in the order of names
}

// Editions returns the editions that this program generates, oldest first. New plans get the last one.
func Editions() []Edition { return []Edition{{Name: "1", Revision: 2, Kinds: Kinds()}} }

// FindEdition returns the edition with a name; nil if there is none among them.
func FindEdition(editions []Edition, name string) *Edition {
	for i := range editions {
		if editions[i].Name == name {
			return &editions[i]
		}
	}
	return nil
}

// RevisionOf is the revision of an edition of this program; 0 if it has no such edition.
func RevisionOf(edition string) int {
	if e := FindEdition(Editions(), edition); e != nil {
		return e.Revision
	}
	return 0
}

// Latest is the edition of new plans.
func Latest() Edition {
	all := Editions()
	return all[len(all)-1]
}
