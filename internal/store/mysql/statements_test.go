package mysql

import (
	"strings"
	"testing"

	"evensprout/internal/schema"

	"github.com/stretchr/testify/assert"
)

func TestStatementsOfAScript(t *testing.T) {
	type list = []statement
	for script, want := range map[string]list{
		"":                                 nil,
		" ;; \n;":                          nil,
		"SELECT 1":                         {{"SELECT 1", 1}},
		"SELECT 1;\n\nSELECT 2 ;\n":        {{"SELECT 1", 1}, {"SELECT 2", 3}},
		"SELECT ';', \";\", `;`; SELECT 2": {{"SELECT ';', \";\", `;`", 1}, {"SELECT 2", 1}},
		`SELECT 'it''s; \'; x'; SELECT 2`:  {{`SELECT 'it''s; \'; x'`, 1}, {"SELECT 2", 1}},
		"-- a; b\nSELECT 1; # c; d\n/* e;\nf */ SELECT 2;\n-- g": {{"-- a; " +
			"b\nSELECT 1", 1}, {"# c; d\n/* e;\nf */ SELECT 2", 2}},
		"/*!40101 SET NAMES utf8 */;\n/* no */;": {{"/*!40101 " +
			"SET NAMES utf8 */", 1}},
		"SELECT 5--1; SELECT 2": {{"SELECT 5--1", 1}, {"SELECT 2", 1}},
		"DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; SELECT 2; END//\ndelimiter ;\nSELECT 3;": {{"CREATE " +
			"PROCEDURE p() BEGIN SELECT 1; SELECT 2; END", 2}, {"SELECT 3", 4}},
		"-- first\nDELIMITER $$\nSELECT 1$$": {{"SELECT 1", 3}},
		"\ufeffSELECT 1;":                    {{"SELECT 1", 1}},
		"SELECT 'open; \n": {{"SELECT " +
			"'open;", 1}},
		"DELIMITER ;": nil,
	} {
		assert.Equal(t, want, list(statements(script)), script)
	}
}

func FuzzStatements(f *testing.F) {
	f.Add("-- x\nDELIMITER //\nSELECT ';'//\nDELIMITER ;\nSELECT 1;")
	f.Add("/*")
	f.Add("'\\")
	f.Fuzz(func(t *testing.T, script string) {
		lines := strings.Count(script, "\n") + 1
		last := 0
		for _, s := range statements(script) {
			assert.NotEmpty(t, strings.TrimSpace(s.text))
			assert.GreaterOrEqual(t, s.line, last)
			assert.LessOrEqual(t, s.line, lines)
			last = s.line
		}
	})
}

func TestTablesThatAreShownInPart(t *testing.T) {
	id := &schema.Column{Name: "id"}
	assert.True(t, torn(&schema.Table{Name: "a"}), "without its columns")
	assert.True(
		t,
		torn(&schema.Table{Name: "a", Columns: []*schema.Column{{Name: "b"}}, PrimaryKey: []string{"id"}}),
		"without one of its key",
	)
	assert.False(t, torn(&schema.Table{Name: "a", Columns: []*schema.Column{id}, PrimaryKey: []string{"id"}}))
	assert.False(t, torn(&schema.Table{Name: "a", Columns: []*schema.Column{id}}))
}
