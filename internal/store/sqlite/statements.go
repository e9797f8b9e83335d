package sqlite

import (
	"slices"

	"zombiezen.com/go/sqlite"
)

// maxPrepared is how many statements stay prepared. The engine visits all of them whenever a table is created
// or dropped.
const maxPrepared = 200

// statements are the prepared statements of a connection.
type statements struct {
	oldest []*sqlite.Stmt // first
	users  map[*sqlite.Stmt]int
}

// prepare returns the statement of a text, prepared now or earlier, and a function that gives it back.
func (d *database) prepare(sql string) (*sqlite.Stmt, func(), error) {
	stmt, err := d.conn.Prepare(sql)
	if err != nil {
		return nil, nil, err
	}
	s := &d.statements
	if s.users == nil {
		s.users = map[*sqlite.Stmt]int{}
	}
	if _, known := s.users[stmt]; !known {
		s.oldest = append(s.oldest, stmt)
	}
	s.users[stmt]++
	s.shrink()
	return stmt, func() {
		stmt.Reset() // it repeats the error of the last step
		s.users[stmt]--
	}, nil
}

// shrink finalizes the oldest statements that nobody is using.
func (s *statements) shrink() {
	for len(s.oldest) > maxPrepared {
		i := slices.IndexFunc(s.oldest, func(stmt *sqlite.Stmt) bool { return s.users[stmt] == 0 })
		if i < 0 {
			return
		}
		delete(s.users, s.oldest[i])
		s.oldest[i].Finalize()
		s.oldest = slices.Delete(s.oldest, i, i+1)
	}
}
