package store

import (
	"fmt"
	"strings"
)

// mostWords bounds what is taken over of a message of a database, in bytes: triggers and hostile servers may send any.
const mostWords = 2000

// Brief is a database's message, cut off if it is long.
func Brief(text string) string {
	if len(text) <= mostWords {
		return text
	}
	return fmt.Sprintf("%s... (%d bytes in all)", strings.ToValidUTF8(text[:mostWords], ""), len(text))
}
