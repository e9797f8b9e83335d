package plan

// formerKinds are the names that kinds had in earlier versions.
var formerKinds = map[string]string{
	"text.title":     "title",
	"text.words":     "words",
	"text.sentence":  "sentence",
	"text.paragraph": "paragraph",
	"text.html":      "html",
}

// formerShared is the key that shared values had in earlier versions.
const formerShared = "draws"

// ReadStored reads the plan that a journal keeps of a load. An earlier version of this program may
// have written it, so the words of those versions are read as well. Plans of today must use the new
// words: Read and Compile report the old ones.
func ReadStored(file string, data []byte) (*Plan, error) { return read(file, data, (*node).modernise) }

// modernise replaces the words of earlier versions in an entity or a field, and below it.
func (n *node) modernise() {
	for i := range n.pairs {
		x := &n.pairs[i]
		if x.key.text == formerShared && x.value.mapping && n.get("fields") != nil {
			x.key.text = "shared"
			n.index["shared"] = i
			delete(n.index, formerShared)
		}
		if name, ok := formerKinds[x.value.text]; ok && x.key.text == "kind" && x.value.scalar() {
			x.value.text = name
		}
		x.value.modernise()
	}
	for _, item := range n.items {
		item.modernise()
	}
}
