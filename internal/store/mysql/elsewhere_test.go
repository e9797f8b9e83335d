package mysql

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Statements that would touch another database than the one made for the script are refused.
func TestStatementsThatLeadElsewhere(t *testing.T) {
	for text, want := range map[string]string{
		"USE harbour": "USE leads to another database",
		"/*!40000 DROP DATABASE IF EXISTS `harbour`*/":       "DROP DATABASE leads",
		"create /* x */ schema a":                            "CREATE",
		"-- x\nCREATE DATABASE /*!32312 IF NOT EXISTS*/ `a`": "CREATE DATABASE leads",
		"DROP TABLE IF EXISTS harbour.boats":                 "another database, harbour",
		"DROP TABLE a, `har``bour` . boats":                  "another database, har`bour",
		"INSERT IGNORE INTO `harbour`.`boats` VALUES (1)":    "another database, harbour",
		"DELETE FROM harbour.boats":                          "another database, harbour",
		"UPDATE harbour.boats SET a = 1":                     "another database, harbour",
		"CREATE TABLE IF NOT EXISTS harbour.x (a int)":       "another database, harbour",
		"/*!50003 CREATE*/ /*!50017 DEFINER=`a`@`b`*/ /*!50003 TRIGGER harbour.t BEFORE INSERT ON a */": "harbour",
	} {
		assert.Contains(t, elsewhere(text, "own"), want, text)
	}
	for _, text := range []string{
		"CREATE TABLE a (b int)", "DROP TABLE IF EXISTS a, own.b", "INSERT INTO a VALUES ('x.y', 1), ('USE b', 2)",
		"CREATE TRIGGER t AFTER INSERT ON a FOR EACH ROW INSERT INTO log VALUES (1, NEW.id)", "SET NAMES utf8",
		"CREATE VIEW v AS SELECT a.b, c.d FROM a JOIN c", "UPDATE a SET a.b = 1",
		"/*!40101 SET character_set_client = x */",
		"CREATE INDEX i ON a (b)", "CREATE PROCEDURE p() BEGIN SELECT a.b FROM a; END",
	} {
		assert.Empty(t, elsewhere(text, "own"), text)
	}
}
