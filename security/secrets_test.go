//go:build unix

package security_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"evensprout/internal/journal"
	"evensprout/internal/store"
)

// journalText is all that the journal keeps of loads, unpacked, by load.
func (b *box) journalText(change func(name string, data []byte) []byte) string {
	b.t.Helper()
	ctx := context.Background()
	s, err := b.driver.Open(ctx, b.url)
	require.NoError(b.t, err)
	defer s.Close()
	all, err := journal.Unlocked(s).Entries(ctx, "harbour")
	require.NoError(b.t, err)
	var text strings.Builder
	for _, e := range all {
		full, err := journal.Unlocked(s).Entry(ctx, e.Number)
		require.NoError(b.t, err)
		z, err := zip.NewReader(bytes.NewReader(full.Body), int64(len(full.Body)))
		require.NoError(b.t, err)
		var again bytes.Buffer
		w := zip.NewWriter(&again)
		for _, f := range z.File {
			r, err := f.Open()
			require.NoError(b.t, err)
			data, err := io.ReadAll(r)
			require.NoError(b.t, err)
			if change != nil {
				data = change(f.Name, data)
			}
			text.Write(data)
			to, err := w.Create(f.Name)
			require.NoError(b.t, err)
			to.Write(data)
		}
		require.NoError(b.t, w.Close())
		if change == nil {
			continue
		}
		full.About.Clean = false
		about, err := json.Marshal(full.About)
		require.NoError(b.t, err)
		j, err := s.Journal(ctx, false)
		require.NoError(b.t, err)
		tx, err := s.Begin(ctx, store.TxOptions{})
		require.NoError(b.t, err)
		_, err = tx.Set(ctx, j.Loads, journal.Cells(j.Loads, "about", string(about), "body", again.Bytes()), journal.Cells(j.Loads, "number", e.Number))
		require.NoError(b.t, err)
		require.NoError(b.t, tx.Commit(ctx))
	}
	return text.String()
}

// The journal keeps no password of the plan's database, and takes out those that an earlier version kept.
func TestTheJournalKeepsNoPasswords(t *testing.T) {
	for name, form := range map[string]string{
		"plain": "database: %s\n", "double quotes": "database: \"%s\" # here\n", "single quotes": "database: '%s'\n",
		"folded": "database: >-\n  %s\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := onPostgres(t, "")
			secret := strings.Replace(b.url, "tester@", "tester:hunter2@", 1)
			require.Contains(t, secret, "hunter2")
			b.write("base.yaml", strings.Replace(fmt.Sprintf(form, secret)+portsOnly, "harbour", "base", 1))
			b.write("evensprout.yaml", fmt.Sprintf(form, secret)+"builds_on: base.yaml\nname: harbour\nseed: s\nclock: 2026-05-01T08:00:00Z\nentities:\n"+
				"  Visit:\n    table: visits\n    rows: 6\n    fields: {port_id: {pick: Port}}\n")
			run := func(want int, args ...string) {
				r := b.run(args...)
				assert.Equal(t, want, r.code, "%v: %s", args, r.all())
				assert.NotContains(t, r.all(), "hunter2", "%v", args)
			}
			run(0, "load")
			assert.NotContains(t, b.journalText(nil), "hunter2")
			run(0, "load")
			run(0, "compare")
			run(0, "load", "--restore")
			run(0, "history", "2", "--plan")
			// As an earlier version kept it.
			was := b.journalText(func(name string, data []byte) []byte {
				if name == "plan.yaml" {
					return []byte(b.read("evensprout.yaml"))
				}
				return data
			})
			require.Contains(t, was, "hunter2")
			run(0, "load")
			assert.NotContains(t, b.journalText(nil), "hunter2", "it is taken out")
			run(0, "withdraw", "evensprout.yaml")
			run(0, "diagram", "--format", "mermaid")
			assert.Zero(t, b.ask("SELECT count(*) FROM visits"))
		})
	}
}

// A picture or a page shows no password of logins.
func TestPicturesShowNoPasswords(t *testing.T) {
	b := onSQLite(t, "")
	b.write("evensprout.yaml", strings.Replace(portsOnly, "{kind: locality}", "{login: hunter2, as: bcrypt, cost: 4}", 1))
	for _, args := range [][]string{{"diagram", "--out", "d.svg"}, {"diagram", "--out", "d.mmd"}, {"diagram"}, {"diagram", "--json"},
		{"page", "--out", "p.html"}} {
		r := b.run(args...)
		require.Zero(t, r.code, r.all())
		assert.NotContains(t, r.all(), "hunter2", args)
	}
	for name, text := range b.files() {
		if !strings.HasSuffix(name, "evensprout.yaml") {
			assert.NotContains(t, text, "hunter2", name)
		}
	}
}
