package cli

import (
	"fmt"

	"evensprout/internal/grow"
	"evensprout/internal/plan"
)

// knownUser is a made-up user whose password is known.
type knownUser struct {
	Entity   string `json:"entity"`
	Row      string `json:"row"`
	Name     string `json:"name,omitempty"` // by which the application knows the user, if that can be told
	Password string `json:"password"`
}

// usersShown is how many users of an entity are named.
const usersShown = 3

// usersOf are the first users of each entity with logins: those that the plan names, and else generated ones.
func usersOf(c *plan.Compiled) []knownUser {
	if len(c.Logins) == 0 {
		return nil
	}
	g := grow.NewGrower(c.Set)
	defer g.Close()
	var out []knownUser
	for _, l := range c.Logins {
		e := l.Target.Grow
		for i := range min(usersShown, e.Total()) {
			row := grow.Row{N: i, Side: true}
			if sides := uint64(len(e.Side)); i >= sides {
				row = grow.Row{N: i - sides}
			}
			u := knownUser{Entity: e.Name, Row: e.Label(row), Password: l.Password}
			if l.Name != nil {
				u.Name = g.Cell(e, row, l.Name).String()
			}
			out = append(out, u)
		}
	}
	return out
}

// printLogins says whom one can be.
func (a *program) printLogins(c *plan.Compiled) {
	users := usersOf(c)
	if len(users) == 0 {
		return
	}
	fmt.Fprintln(a.out, "You can log in to your application as, for example:")
	for _, u := range users {
		if u.Name != "" {
			fmt.Fprintf(a.out, "  %s (%s), password %s\n", u.Name, u.Row, u.Password)
			continue
		}
		fmt.Fprintf(a.out, "  %s, password %s\n", u.Row, u.Password)
	}
}
