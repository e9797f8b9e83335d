// Package mapping reads how a program maps its classes to tables: Go structs from their source, which is neither built
// nor run, and classes of any language from a JSON document that a program prints.
package mapping

import (
	"go/token"

	"evensprout/internal/schema"
)

// Entity is a class that is mapped to a table.
type Entity struct {
	Name   string
	Table  string // as the program says; empty if it does not
	Fields []Field
	Place  token.Position
	Of     string // what it is called: struct or entity
}

// What entities are called.
const (
	ofStruct = "struct"
	ofEntity = "entity"
)

// Field is a field that is mapped to a column.
type Field struct {
	Name     string
	Column   string // as the program says; empty if the name tells
	Type     string // as the source spells it
	Kind     schema.Kind
	Bits     int  // of integers; 0 means 64
	Unsigned bool // of integers
	Length   int  // of texts, in characters; 0: any
	Nullable bool
	Key      bool   // it is the primary key, or a part of it
	Refers   string // the entity whose key it holds, or a field of it, such as Port.code
	Choices  []Choice
	Place    token.Position
}

// Choice is a constant of a field's type.
type Choice struct {
	Text   string
	Number int64
	IsText bool
}
