package plan

import "evensprout/internal/schema"

// What tests outside the package share with those inside.

const (
	Head         = head
	QuayEntities = quayEntities
)

func FerryTables() *schema.Database { return ferry(nil) }
func QuayTables() *schema.Database  { return quay() }
func UnitText(steps string) string  { return unitText(steps) }
func CellOf(source string) string   { return cellOf(source) }
