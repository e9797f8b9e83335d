package files

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"evensprout/internal/cell"
	"fmt"
	"io"
	"os"
	"strings"
)

// ndjsonReader reads one JSON object a line.
type ndjsonReader struct {
	file  *os.File
	path  string
	lines *bufio.Reader
	line  int
	names nameList
}

func openNDJSON(f *os.File, path string, _ Options) (Reader, error) {
	b, err := withoutBOM(f)
	if err != nil {
		return nil, err
	}
	return &ndjsonReader{file: f, path: path, lines: b}, nil
}

func (r *ndjsonReader) Names() []string { return nil }
func (r *ndjsonReader) Close() error    { return r.file.Close() }

func (r *ndjsonReader) Next() (Record, error) {
	for {
		text, err := readLine(r.lines)
		if err != nil {
			if errors.Is(err, errLongLine) {
				return Record{}, &Error{r.path, r.line + 1, 0, err.Error(), ""}
			}
			return Record{}, err
		}
		r.line++
		if len(bytes.TrimSpace(text)) == 0 {
			continue
		}
		if bad := checkText(string(text)); bad != "" {
			return Record{}, &Error{r.path, r.line, 0, bad, ""}
		}
		if holdsHalf(text) {
			return Record{}, &Error{r.path, r.line, 0, errSurrogate.Error(), ""}
		}
		d := json.NewDecoder(bytes.NewReader(text))
		var record Record
		if err = r.names.open(d); err == nil {
			record, err = r.names.object(d)
		}
		if err == nil {
			if _, more := d.Token(); more != io.EOF {
				err = errors.New("there is text after the object")
			}
		}
		if err != nil {
			return Record{}, &Error{
				r.path,
				r.line,
				int(min(d.InputOffset(), int64(len(text)))) + 1,
				jsonFault(err),
				"each line is one JSON object",
			}
		}
		record.Line = r.line
		for i, c := range record.Cells { // escapes may make what the line itself does not hold
			if bad := checkText(c.Text); bad != "" {
				return Record{}, &Error{r.path, r.line, 0, fmt.Sprintf("%s: %s", record.Names[i], bad), ""}
			}
		}
		return record, nil
	}
}

var errLongLine = fmt.Errorf("a line of more than %d bytes", maxLine)

// readLine reads a line of bounded length, without its end.
func readLine(b *bufio.Reader) ([]byte, error) {
	var line []byte
	for {
		part, err := b.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > maxLine:
			return nil, errLongLine
		case err == bufio.ErrBufferFull:
			continue
		case err == io.EOF && len(line) > 0, err == nil:
			return bytes.TrimRight(line, "\r\n"), nil
		default:
			return nil, err
		}
	}
}

// jsonReader reads a JSON array of objects.
type jsonReader struct {
	file    *os.File
	path    string
	bytes   *bounded
	lines   *lineCounter
	decoder *json.Decoder
	names   nameList
	done    bool
}

func openJSON(f *os.File, path string, o Options) (Reader, error) {
	if o.Inside != "" {
		return openNested(f, path, o)
	}
	b, err := withoutBOM(f)
	if err != nil {
		return nil, err
	}
	r := &jsonReader{file: f, path: path, bytes: newBounded(b)}
	r.lines = &lineCounter{from: &surrogates{from: r.bytes}}
	r.decoder = json.NewDecoder(r.lines)
	t, err := r.decoder.Token()
	if err == io.EOF {
		return nil, &Error{File: path, Message: "the file is empty", Hint: "the file must hold a list of " +
			"objects: [{...}, {...}]"}
	}
	if errors.Is(err, errSurrogate) {
		return nil, &Error{File: path, Message: err.Error()}
	}
	if t != json.Delim('[') || err != nil {
		return nil, &Error{
			path,
			1,
			1,
			"this is not a list of objects",
			"the file must hold a list of objects: [{...}, {...}]; one object a line is .ndjson",
		}
	}
	return r, nil
}

func (r *jsonReader) Names() []string { return nil }
func (r *jsonReader) Close() error    { return r.file.Close() }

func (r *jsonReader) Next() (Record, error) {
	if r.done {
		return Record{}, io.EOF
	}
	line := 0
	record, err := Record{}, error(nil)
	r.bytes.next()
	if r.decoder.More() {
		if err = r.names.open(r.decoder); err == nil {
			line, _ = r.lines.at(r.decoder.InputOffset())
			record, err = r.names.object(r.decoder)
		}
	} else {
		var t json.Token
		if t, err = r.decoder.Token(); err == nil && t == json.Delim(']') {
			r.done = true
			if _, err = r.decoder.Token(); err == io.EOF {
				return Record{}, io.EOF
			}
			if err == nil {
				err = errors.New("there is text after the list")
			}
		}
	}
	if err != nil {
		line, column := r.lines.at(r.decoder.InputOffset())
		return Record{}, &Error{r.path, line, column, jsonFault(err), ""}
	}
	record.Line = line
	for _, c := range record.Cells {
		if bad := checkText(c.Text); bad != "" {
			return Record{}, &Error{r.path, line, 0, bad, ""}
		}
	}
	return record, nil
}

func jsonFault(err error) string {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return "the JSON ends too early"
	}
	return strings.TrimPrefix(err.Error(), "json: ")
}

const maxRecordLines = 1_000_000

// lineCounter finds the line of an offset that lies not far behind what was read.
type lineCounter struct {
	from  io.Reader
	read  int64
	ends  []int64 // offsets of line ends not passed yet
	lines int     // ends passed
	start int64   // of the current line
}

func (c *lineCounter) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	for i, b := range p[:n] {
		if b == '\n' {
			c.ends = append(c.ends, c.read+int64(i))
		}
	}
	c.read += int64(n)
	if len(c.ends) > maxRecordLines {
		return n, fmt.Errorf("a record of more than %d lines", maxRecordLines)
	}
	return n, err
}

func (c *lineCounter) at(offset int64) (line, column int) {
	passed := 0
	for passed < len(c.ends) && c.ends[passed] < offset {
		c.start = c.ends[passed] + 1
		passed++
	}
	c.lines += passed
	c.ends = c.ends[:copy(c.ends, c.ends[passed:])]
	return c.lines + 1, int(offset-c.start) + 1
}

// nameList keeps the names of the last object, so that records of the same form share
// them.
type nameList struct {
	names []string
	cells []cell.Cell
}

// open reads the beginning of an object.
func (l *nameList) open(d *json.Decoder) error {
	t, err := d.Token()
	if err == nil && t != json.Delim('{') {
		err = errors.New("this is not an object")
	}
	return err
}

// object reads the rest of an object of scalars; what is deeper stays JSON.
func (l *nameList) object(d *json.Decoder) (Record, error) {
	l.cells = l.cells[:0]
	same := true
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return Record{}, err
		}
		name, ok := key.(string)
		if !ok {
			return Record{}, errors.New("an object's key is text")
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return Record{}, err
		}
		i := len(l.cells)
		if i >= maxColumns {
			return Record{}, fmt.Errorf("more than %d keys", maxColumns)
		}
		if same && (i >= len(l.names) || l.names[i] != name) {
			same = false
			l.names = append([]string{}, l.names[:i]...)
		}
		if !same {
			for _, n := range l.names {
				if n == name {
					return Record{}, fmt.Errorf("the key %s appears twice in one object", name)
				}
			}
			l.names = append(l.names, name)
		}
		cell, err := cell.OfJSON(raw)
		if err != nil {
			return Record{}, err
		}
		l.cells = append(l.cells, cell)
	}

	if _, err := d.Token(); err != nil {
		return Record{}, err
	}
	if len(l.cells) < len(l.names) {
		l.names = append([]string{}, l.names[:len(l.cells)]...)
	}
	return Record{Names: l.names, Cells: l.cells}, nil
}
