package cli

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	yaml "go.yaml.in/yaml/v3"

	"evensprout/internal/demo"
	"evensprout/internal/store/sqlite"
)

// changer changes valid plans in their structure: what it makes is nearly right, so that it comes further than random
// text does.
type changer struct {
	r    *rand.Rand
	pool []*yaml.Node // parts of plans, to stand in places where they do not belong
}

// odd are parts that no plan needs.
const odd = `[null, {}, [], [[]], [{}], "", 0, -1, 1.5, true, 9223372036854775807, 2026-05-01, 1..3, 3..1, "{x}", "'", House,
  {pick: House}, {a: {b: {c: []}}}, 3d, 200%, "*", [a, [b]], {null: 1}, {[]: 1}, [House, {}], [[House, {}]]]`

func newChanger(r *rand.Rand, root *yaml.Node) *changer {
	c := &changer{r: r}
	var more yaml.Node
	if err := yaml.Unmarshal([]byte(odd), &more); err == nil {
		c.pool = append(c.pool, more.Content[0].Content...)
	}
	for _, n := range nodesOf(root) {
		c.pool = append(c.pool, copyOf(n))
	}
	return c
}

// copyOf is a node and all below it, so that no node becomes a part of itself.
func copyOf(n *yaml.Node) *yaml.Node {
	out := *n
	out.Content = nil
	for _, x := range n.Content {
		out.Content = append(out.Content, copyOf(x))
	}
	return &out
}

// nodesOf are a node and all below it.
func nodesOf(n *yaml.Node) []*yaml.Node {
	out := []*yaml.Node{n}
	for _, x := range n.Content {
		out = append(out, nodesOf(x)...)
	}
	return out
}

// change does one of a few things to a random place.
func (c *changer) change(root *yaml.Node) {
	var parents []*yaml.Node
	for _, n := range nodesOf(root) {
		if len(n.Content) > 0 {
			parents = append(parents, n)
		}
	}
	p := parents[c.r.IntN(len(parents))]
	at := c.r.IntN(len(p.Content))
	other := copyOf(c.pool[c.r.IntN(len(c.pool))])
	switch c.r.IntN(6) {
	case 0, 1: // something else stands there
		p.Content[at] = other
	case 2: // it is gone
		width := 1
		if p.Kind == yaml.MappingNode {
			at, width = at&^1, 2
		}
		p.Content = append(append([]*yaml.Node{}, p.Content[:at]...), p.Content[at+width:]...)
	case 3: // it is there in a list, or a list of lists
		p.Content[at] = &yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{p.Content[at], other}}
	case 4: // one more
		if p.Kind == yaml.MappingNode {
			p.Content = append(p.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "more"}, other)
		} else {
			p.Content = append(p.Content, other)
		}
	default: // two change places
		to := parents[c.r.IntN(len(parents))]
		i := c.r.IntN(len(to.Content))
		p.Content[at], to.Content[i] = copyOf(to.Content[i]), copyOf(p.Content[at])
	}
}

// Whatever a plan is changed into, no command panics: with a database behind it, which a load does not accept.
func FuzzChangedPlans(f *testing.F) {
	for seed := range uint64(40) {
		f.Add(seed, uint8(seed%4))
	}
	f.Fuzz(func(t *testing.T, seed uint64, changes uint8) {
		folder := t.TempDir()
		db := filepath.Join(folder, "l.db")
		require.NoError(t, sqlite.Create(db, demo.Schema))
		text := demo.Plan
		if seed%2 == 0 {
			text = demo.Entities
		}
		text = strings.NewReplacer("rows: 5000", "rows: 20", "rows: 400", "rows: 20", "rows: 150", "rows: 20").Replace(text)
		for name, file := range demo.Files() {
			require.NoError(t, os.WriteFile(filepath.Join(folder, name), file, 0o644))
		}
		var root yaml.Node
		require.NoError(t, yaml.Unmarshal([]byte(text), &root))
		c := newChanger(rand.New(rand.NewPCG(seed, 1)), &root)
		for range changes%6 + 1 {
			c.change(root.Content[0])
		}
		out, err := yaml.Marshal(&root)
		if err != nil {
			return // a mapping that is its own part, or has a list as a key
		}
		if len(out) > 1<<20 {
			return
		}
		path := filepath.Join(folder, "evensprout.yaml")
		require.NoError(t, os.WriteFile(path, out, 0o644))
		for _, args := range [][]string{{"check", path}, {"preview", path}, {"load", path, "--dry-run", "--rows", "Passenger=5"}} {
			if args[0] != "preview" {
				args = append(args, "--db", "sqlite:"+db)
			}
			Main(args, strings.NewReader(""), &bytes.Buffer{}, &bytes.Buffer{})
		}
	})
}
