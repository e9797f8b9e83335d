package store

import "strings"

// OldServer refuses a server whose version is too old. where is its place, least the oldest that will do.
func OldServer(where, version, least string) *Fault {
	return &Fault{
		Kind:    Foreign,
		Message: "the server at " + where + " is " + version + ", which is too old",
		Hint:    "use " + least + " or newer",
	}
}

// OtherServer refuses a server that is another product than its protocol says. says is what it calls itself.
func OtherServer(where, says string) *Fault {
	const most = 60
	says = strings.Join(strings.Fields(says), " ") // one line, whatever it sends
	if letters := []rune(says); len(letters) > most {
		says = string(letters[:most]) + "..."
	}
	return &Fault{
		Kind:    Foreign,
		Message: "the server at " + where + " is not supported: it calls itself \"" + says + "\"",
		Hint:    "use PostgreSQL, MariaDB, MySQL or a SQLite file",
	}
}

// NewServer is the notice about a server that is newer than those that were tested.
func NewServer(version, tested string) string {
	return "the server is " + version + ", which is newer than what this program was tested with (" + tested + ")"
}
