package main

import (
	"bufio"
	"context"
	"encoding/json"
	"os"

	"github.com/jackc/pgx/v5"
)

// order is a line of the file that bench-lists.sh makes.
type order struct {
	No    string `json:"no"`
	Buyer string `json:"buyer"`
	Lines []struct {
		SKU   string      `json:"sku"`
		Qty   int         `json:"qty"`
		Price json.Number `json:"price"`
	} `json:"lines"`
}

// lists does what bench-lists.sh does with a unit: an order and its lines for each line of
// an NDJSON file, one prepared statement a row, 500 orders in a transaction.
func lists(url, path string) error {
	ctx := context.Background()
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	const head = "INSERT INTO orders (no, buyer) VALUES ($1, $2) RETURNING id"
	const line = "INSERT INTO order_lines (order_id, sku, qty, price) VALUES ($1, $2, $3, $4)"
	in := bufio.NewScanner(f)
	in.Buffer(nil, 1<<20)
	var tx pgx.Tx
	n := 0
	for in.Scan() {
		var o order
		if err := json.Unmarshal(in.Bytes(), &o); err != nil {
			return err
		}
		if n%together == 0 {
			if tx, err = conn.Begin(ctx); err != nil {
				return err
			}
		}
		var id int64
		if err := tx.QueryRow(ctx, head, o.No, o.Buyer).Scan(&id); err != nil { // pgx keeps it prepared
			return err
		}
		for _, l := range o.Lines {
			if _, err := tx.Exec(ctx, line, id, l.SKU, l.Qty, l.Price.String()); err != nil {
				return err
			}
		}
		if n++; n%together == 0 {
			if err := tx.Commit(ctx); err != nil {
				return err
			}
		}
	}
	if err := in.Err(); err != nil || n%together == 0 {
		return err
	}
	return tx.Commit(ctx)
}
