package files

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"strings"

	"evensprout/internal/cell"
)

// nestedReader reads the rows of one entity from a JSON document that holds others as well: under the name of each
// entity without a parent a list of its rows, with those below them inside, as {"Order": [{"no": 1, "Line": [{...}]}]}.
// It reads a row without a parent, with all below it, at a time.
type nestedReader struct {
	file    *os.File
	path    string
	inside  []string // the names of the lists, from the outer one
	bytes   *bounded
	lines   *lineCounter
	decoder *json.Decoder
	names   nameList
	line    int
	queue   []json.RawMessage
	done    bool
}

func openNested(f *os.File, path string, o Options) (Reader, error) {
	b, err := withoutBOM(f)
	if err != nil {
		return nil, err
	}
	r := &nestedReader{file: f, path: path, inside: strings.Split(o.Inside, "."), bytes: newBounded(b)}
	r.lines = &lineCounter{from: &surrogates{from: r.bytes}}
	r.decoder = json.NewDecoder(r.lines)
	return r, r.begin()
}

// begin goes to the outermost list.
func (r *nestedReader) begin() error {
	t, err := r.decoder.Token()
	if err == nil && t != json.Delim('{') {
		return &Error{
			File: r.path, Line: 1, Column: 1, Message: "this is not an object with lists of rows",
			Hint: `such as {"Order": [{...}, {...}]}; a list of objects needs no inside:`,
		}
	}
	for err == nil && r.decoder.More() {
		var key json.Token
		if key, err = r.decoder.Token(); err != nil {
			break
		}
		if key == r.inside[0] {
			if t, err = r.decoder.Token(); err == nil && t != json.Delim('[') {
				err = errors.New(r.inside[0] + " is not a list")
			}
			if err == nil {
				return nil
			}
			break
		}
		err = r.skip()
	}
	if err != nil {
		return r.fault(err)
	}
	r.done = true // there are none
	return nil
}

// skip reads over a value without keeping it.
func (r *nestedReader) skip() error {
	for depth := 0; ; {
		r.bytes.next()
		t, err := r.decoder.Token()
		if err != nil {
			return err
		}
		switch t {
		case json.Delim('{'), json.Delim('['):
			depth++
		case json.Delim('}'), json.Delim(']'):
			depth--
		}
		if depth == 0 {
			return nil
		}
	}
}

func (r *nestedReader) fault(err error) error {
	line, column := r.lines.at(r.decoder.InputOffset())
	return &Error{r.path, line, column, jsonFault(err), ""}
}

func (r *nestedReader) Names() []string { return nil }
func (r *nestedReader) Close() error    { return r.file.Close() }

// Next returns the next row: in the order of the rows above it, then of the lists.
func (r *nestedReader) Next() (Record, error) {
	for len(r.queue) == 0 {
		r.bytes.next()
		if r.done {
			return Record{}, io.EOF
		}
		if !r.decoder.More() {
			if _, err := r.decoder.Token(); err != nil {
				return Record{}, r.fault(err)
			}
			r.done = true
			continue
		}
		var raw json.RawMessage
		if err := r.decoder.Decode(&raw); err != nil {
			return Record{}, r.fault(err)
		}
		r.line, _ = r.lines.at(r.decoder.InputOffset())
		if err := r.below(raw, r.inside[1:]); err != nil {
			return Record{}, &Error{r.path, r.line, 0, jsonFault(err), ""}
		}
	}
	raw := r.queue[0]
	r.queue = r.queue[1:]
	d := json.NewDecoder(strings.NewReader(string(raw)))
	err := r.names.open(d)
	var record Record
	if err == nil {
		record, err = r.names.object(d)
	}
	if err != nil {
		return Record{}, &Error{r.path, r.line, 0, jsonFault(err), ""}
	}
	for _, c := range record.Cells {
		if bad := checkText(c.Text); bad != "" {
			return Record{}, &Error{r.path, r.line, 0, bad, ""}
		}
	}
	record.Line = r.line
	return record, nil
}

// below collects the rows that lie below a row, at the end of a path of lists.
func (r *nestedReader) below(raw json.RawMessage, path []string) error {
	if len(path) == 0 {
		r.queue = append(r.queue, raw)
		return nil
	}
	members, err := cell.Members(raw)
	if err != nil {
		return err
	}
	list := members[path[0]]
	if list == nil {
		return nil
	}
	items, err := cell.Items(list)
	if err != nil {
		return errors.New(path[0] + " is not a list")
	}
	for _, x := range items {
		if err := r.below(x, path[1:]); err != nil {
			return err
		}
	}
	return nil
}
