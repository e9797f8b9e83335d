package plan

import (
	"slices"
	"strings"

	"evensprout/internal/grow"
	"evensprout/internal/passhash"
	"evensprout/internal/value"
)

// Login is a field of hashed passwords: who knows the password can be any of the rows.
type Login struct {
	Target   *Target
	Password string
	// Name is the field by which the application knows its users, such as an e-mail address; nil if none
	// can be told.
	Name *grow.Field
}

// login compiles {login: "letmein", as: bcrypt, cost: 10, salt: each}.
func (c *compiler) login(f *field) grow.Source {
	var password, method, salt string
	v := f.decl.source
	if !c.plan.text(v, "login", &password) {
		return nil
	}
	as := f.decl.args["as"]
	if as == nil {
		c.add(v.place, "login must say how the password is hashed").
			Advise("{login: %s, as: %s}", password, passhash.Names()[0])
		return nil
	}
	if !c.plan.text(as, "as", &method) {
		return nil
	}
	m := passhash.Find(method)
	if m == nil {
		c.add(as.place, "%s is not a way to hash passwords", method).Nearest(method, passhash.Names())
		return nil
	}
	cost, at := uint64(m.Cost), v.place
	if n := f.decl.args["cost"]; n != nil {
		var ok bool
		if cost, ok = c.plan.number(n, "cost", uint64(m.Least), uint64(m.Most)); !ok {
			return nil
		}
		at = n.place
	}
	if n := f.decl.args["salt"]; n != nil {
		if !c.plan.text(n, "salt", &salt) {
			return nil
		}
		if words := []string{"shared", "each"}; !slices.Contains(words, salt) {
			c.add(n.place, "salt must be shared or each, got %s", n.what()).Nearest(salt, words)
			return nil
		}
	}
	if err := m.Check(password, uint32(cost)); err != nil {
		c.add(at, "%s", err)
		return nil
	}
	c.logins = append(c.logins, loginField{f, password})
	return grow.Login(func(salt [16]byte) (string, error) {
		return m.Hash(password, uint32(cost), passhash.Salt(salt))
	}, m.Length(uint32(cost)), salt == "each")
}

// loginField is a field with a login, and its password.
type loginField struct {
	field    *field
	password string
}

// loginsOf collects the logins of an entity.
func (c *compiler) loginsOf(e *entity, t *Target) {
	for _, l := range c.logins {
		if l.field.entity == e {
			c.out.Logins = append(c.out.Logins, Login{t, l.password, e.userName()})
		}
	}
}

// userNameWords are parts of the names of fields by which applications know their users.
var userNameWords = []string{"email", "mail", "login", "username", "user", "handle", "account"}

// userName is the field by which an application knows its users: by its name, or else the first unique text.
func (e *entity) userName() *grow.Field {
	var texts []*field
	for _, f := range e.fields {
		if !f.decl.inner && f.decl.word != wordLogin && f.state == compiled && f.grow.Source.Type() == value.Text {
			texts = append(texts, f)
		}
	}
	for _, word := range userNameWords {
		for _, f := range texts {
			if strings.Contains(strings.ReplaceAll(strings.ToLower(f.decl.Name), "_", ""), word) {
				return f.grow
			}
		}
	}
	for _, f := range texts {
		if f.decl.Unique {
			return f.grow
		}
	}
	return nil
}

// HasLogins reports whether a field holds hashed passwords.
func (p *Plan) HasLogins() bool {
	return slices.ContainsFunc(p.Entities, func(e *Entity) bool {
		fields := slices.Concat(e.Fields, e.Draws)
		for _, o := range e.Profiles {
			fields = append(fields, o.Fields...)
		}
		return slices.ContainsFunc(fields, (*Field).hasLogin)
	})
}

// hasLogin reports whether a field, or something that its source is made of, is a login.
func (f *Field) hasLogin() bool {
	if f.word == wordLogin || f.source != nil && f.source.holds(wordLogin) {
		return true
	}
	for _, n := range f.args {
		if n.holds(wordLogin) {
			return true
		}
	}
	return false
}

// wordLogin names the source of hashed passwords.
const wordLogin = "login"

// holds reports whether a mapping below a node has a key.
func (n *node) holds(key string) bool {
	for _, x := range n.pairs {
		if x.key.text == key || x.value.holds(key) {
			return true
		}
	}
	return slices.ContainsFunc(n.items, func(i *node) bool { return i.holds(key) })
}
