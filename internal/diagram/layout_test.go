package diagram

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/canvas"
)

// random is a diagram of so many boxes, with circles and references to oneself.
func random(r *rand.Rand, boxes int) *Diagram {
	d := &Diagram{Title: "random"}
	for i := range boxes {
		b := Box{Name: fmt.Sprintf("Box%d", i), Rows: "1,000", Order: i + 1, Parent: -1}
		for f := range r.IntN(8) {
			b.Fields = append(b.Fields, Field{Name: fmt.Sprintf("field_%d", f), Type: "text"})
		}
		for n := range r.IntN(4) {
			to := r.IntN(boxes)
			name := fmt.Sprintf("to_%d", n)
			b.Fields = append(b.Fields, Field{Name: name, Type: "integer", Reference: true})
			d.Edges = append(d.Edges, Edge{From: i, To: to, Field: name, Closing: to > i && r.IntN(2) == 0,
				Family: n == 0 && to < i && r.IntN(2) == 0})
		}
		d.Boxes = append(d.Boxes, b)
	}
	return d
}

// through reports whether a part of a line runs through the inside of a box.
func through(a, b canvas.Point, r rect) bool {
	const touch = 1
	lowX, highX := min(a.X, b.X), max(a.X, b.X)
	lowY, highY := min(a.Y, b.Y), max(a.Y, b.Y)
	return highX > r.x+touch && lowX < r.x+r.w-touch && highY > r.y+touch && lowY < r.y+r.h-touch
}

// No two boxes overlap, no line runs through a box, and all is inside the picture.
func TestNothingOverlaps(t *testing.T) {
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 1))
		d := random(r, 1+int(seed)%90)
		l, err := NewLayout(d)
		require.NoError(t, err)
		for i, a := range l.boxes {
			assert.True(t, a.x >= margin && a.y >= margin && a.x+a.w <= l.width && a.y+a.h <= l.height, "%v", a)
			for j, b := range l.boxes[:i] {
				apart := a.x+a.w <= b.x || b.x+b.w <= a.x || a.y+a.h <= b.y || b.y+b.h <= a.y
				require.True(t, apart, "seed %d: boxes %d and %d: %v %v", seed, i, j, a, b)
			}
		}
		for e, line := range l.lines {
			for i := 1; i < len(line); i++ {
				a, b := line[i-1], line[i]
				require.True(t, a.X == b.X || a.Y == b.Y, "lines are straight: %v %v", a, b)
				for n, box := range l.boxes {
					require.False(t, through(a, b, box), "seed %d: the line of %v runs through box %d: %v %v %v", seed,
						d.Edges[e], n, a, b, box)
				}
				assert.True(t, a.X > 0 && a.Y > 0 && a.X < l.width && a.Y < l.height)
			}
		}
	}
}

// What is loaded earlier stands to the left.
func TestReferencesLeadToTheLeft(t *testing.T) {
	for seed := range uint64(50) {
		d := random(rand.New(rand.NewPCG(seed, 2)), 30)
		l, err := NewLayout(d)
		require.NoError(t, err)
		for _, e := range d.forward() {
			assert.Less(t, l.boxes[e.To].x, l.boxes[e.From].x)
		}
	}
}

// Small changes leave the rest where it is: the columns, and the order in them.
func TestLayoutsAreStable(t *testing.T) {
	for seed := range uint64(40) {
		d := random(rand.New(rand.NewPCG(seed, 3)), 12)
		before, err := NewLayout(d)
		require.NoError(t, err)
		again, err := NewLayout(d)
		require.NoError(t, err)
		assert.Equal(t, before.boxes, again.boxes, "the same diagram is drawn alike")
		assert.Equal(t, before.lines, again.lines)

		d.Boxes[5].Fields = append(d.Boxes[5].Fields, Field{Name: "another", Type: "text"})
		d.Boxes = append(d.Boxes, Box{Name: "Alone", Parent: -1})
		after, err := NewLayout(d)
		require.NoError(t, err)
		assert.Equal(t, before.column, after.column[:12], "seed %d", seed)
		assert.Equal(t, before.columns, after.columns, "seed %d", seed)
	}
}

func TestPicturesAreDrawn(t *testing.T) {
	d := random(rand.New(rand.NewPCG(1, 4)), 9)
	d.Title = `<script>alert("x")</script> & more`
	d.Boxes[0].Name = "</svg>\x00\u202e"
	d.Boxes[1].Mark, d.Boxes[2].Fields = DatabaseOnly, append(d.Boxes[2].Fields, Field{Name: "new", Mark: PlanOnly})
	for _, of := range []*Diagram{d, {}, {Title: "one", Boxes: []Box{{Name: "A", Parent: -1}}},
		{Boxes: []Box{{Name: "A", Parent: -1}}, Edges: []Edge{{Field: "self"}}}} {
		l, err := NewLayout(of)
		require.NoError(t, err)
		picture, err := l.Draw("png")
		require.NoError(t, err)
		_, err = png.Decode(bytes.NewReader(picture))
		require.NoError(t, err)
		text, err := l.Draw("svg")
		require.NoError(t, err)
		assert.NotContains(t, string(text), "<script")
		x := xml.NewDecoder(bytes.NewReader(text))
		for err == nil {
			_, err = x.Token()
		}
		assert.Equal(t, io.EOF, err)
		_, err = l.Draw("gif")
		assert.ErrorContains(t, err, "png or svg")
	}
}

// A type is as short as PostgreSQL takes it, so that its length is still to be seen.
func TestShortTypes(t *testing.T) {
	for declared, short := range map[string]string{
		"character varying(255)": "varchar(255)", "character(3)": "char(3)", "VARCHAR(12)": "VARCHAR(12)",
		"timestamp(3) without time zone": "timestamp(3)", "timestamp with time zone": "timestamptz",
		"time without time zone": "time", "character varying": "varchar", "double precision": "double precision",
		"enum('a','b','c','d','e')": "enum('a','b','c','d…",
	} {
		assert.Equal(t, short, (&Field{Type: declared}).typeLabel())
	}
}

func TestChoosingBoxes(t *testing.T) {
	d := &Diagram{Boxes: []Box{{Name: "A", Parent: -1}, {Name: "B", Parent: 0}, {Name: "C", Table: "seas", Parent: 1},
		{Name: "D", Parent: -1}}, Edges: []Edge{{From: 1, To: 0}, {From: 2, To: 1}, {From: 3, To: 2}}}
	assert.Equal(t, []string{"B", "C", "D"}, d.Around(2, 1).Names())
	assert.Equal(t, []string{"A", "B", "C", "D"}, d.Around(2, 2).Names())
	assert.Equal(t, []string{"C"}, d.Around(2, 0).Names())
	part := d.Only(func(i int) bool { return i != 1 })
	assert.Equal(t, []Edge{{From: 2, To: 1}}, part.Edges)
	assert.Equal(t, -1, part.Boxes[1].Parent, "its parent is not shown")
	assert.Equal(t, 2, d.Find("SEAS"))
	assert.Equal(t, -1, d.Find("E"))
}

func TestMermaidTakesAnyName(t *testing.T) {
	d := &Diagram{Boxes: []Box{
		{Name: `Odd "name"`, Parent: -1, Fields: []Field{{Name: "1st", Type: "varchar(20)", Key: true}}},
		{Name: "Plain", Parent: -1, Fields: []Field{{Name: "odd_id", Type: "integer", Reference: true}}}},
		Edges: []Edge{{From: 1, To: 0, Field: "odd_id", Optional: true, Closing: true}}}
	assert.Equal(t, strings.Join([]string{
		"erDiagram",
		`  "Odd 'name'" {`,
		"    varchar_20_ x1st PK",
		"  }",
		"  Plain {",
		"    integer odd_id FK",
		"  }",
		`  "Odd 'name'" o|--o{ Plain : "odd_id (closes a circle)"`,
		"",
	}, "\n"), d.Mermaid())
}

func BenchmarkLayout(b *testing.B) {
	d := random(rand.New(rand.NewPCG(1, 5)), 80)
	for range b.N {
		if _, err := NewLayout(d); err != nil {
			b.Fatal(err)
		}
	}
}
