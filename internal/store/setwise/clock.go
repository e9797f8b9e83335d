package setwise

import (
	"context"
	"time"

	"evensprout/internal/schema"
	"evensprout/internal/value"
)

// Clock reads a query of the server's time in UTC and of the name of its time zone.
func Clock(ctx context.Context, e Engine, sql string) (now time.Time, zone string, err error) {
	columns := []*schema.Column{{Kind: schema.Timestamp, Digits: 6}, {Kind: schema.Text}}
	err = e.Query(ctx, sql, nil, columns, func(row []value.Value) error {
		now, zone = time.UnixMicro(row[0].N).UTC(), row[1].S
		return nil
	})
	return now, zone, err
}
