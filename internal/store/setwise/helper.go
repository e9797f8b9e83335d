package setwise

import (
	"context"
	"fmt"
	"slices"

	"evensprout/internal/schema"
)

// Helper is an engine that can make an index inside a transaction, for as long as that takes.
//
// For each row that is deleted, an engine looks for rows that refer to it. Where the columns of a reference have no
// index, it reads the whole table each time: deleting as many rows as refer to them then takes time with the square of
// their number.
type Helper interface {
	// Tables are all tables of the database.
	Tables() *schema.Database
	// LacksIndex reports whether a search by columns reads all of a table that is not small.
	LacksIndex(ctx context.Context, t *schema.Table, columns []string) (bool, error)
	// MakeIndex makes an index, unless that would make others wait or is not allowed.
	MakeIndex(ctx context.Context, name string, t *schema.Table, columns []string) (made bool, err error)
	// DropIndex drops an index that MakeIndex made.
	DropIndex(ctx context.Context, name string, t *schema.Table) error
}

// help is what a transaction did about columns that are searched: it is looked at once.
type help struct {
	table   *schema.Table
	columns []string
	name    string // empty if there is none
}

// helpFrom is the number of rows that are deleted from which an index pays.
const helpFrom = 100

// helped makes the indexes that deleting rows of a table needs and that are missing.
func (tx *Tx) helped(ctx context.Context, from *schema.Table, rows int64) error {
	h := tx.Helper
	if h == nil || rows < helpFrom {
		return nil
	}
	for _, t := range h.Tables().Tables {
		for i := range t.References {
			if r := &t.References[i]; r.To != nil && r.To.Name == from.Name {
				if err := tx.helpWith(ctx, t, r.Columns); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// helpWith makes an index over columns of a table, if it lacks one; once in a transaction.
func (tx *Tx) helpWith(ctx context.Context, t *schema.Table, columns []string) error {
	if slices.ContainsFunc(tx.helps, func(x help) bool { return x.table == t && slices.Equal(x.columns, columns) }) {
		return nil
	}
	lacks, err := tx.Helper.LacksIndex(ctx, t, columns)
	if err != nil {
		return err
	}
	x := help{table: t, columns: columns}
	if lacks {
		name := fmt.Sprintf("evensprout_removing_%d", len(tx.helps))
		made, err := tx.Helper.MakeIndex(ctx, name, t, columns)
		if err != nil {
			return err
		}
		if made {
			x.name = name
		}
	}
	tx.helps = append(tx.helps, x)
	return nil
}

// EndHelp drops the indexes that the transaction has made for itself. It goes before the commit.
func (tx *Tx) EndHelp(ctx context.Context) error {
	for _, x := range tx.helps {
		if x.name == "" {
			continue
		}
		if err := tx.Helper.DropIndex(ctx, x.name, x.table); err != nil {
			return err
		}
	}
	tx.helps = nil
	return nil
}

// Helps reports whether the transaction has made indexes for itself.
func (tx *Tx) Helps() bool {
	return slices.ContainsFunc(tx.helps, func(x help) bool { return x.name != "" })
}
