package parquetrows

import (
	"encoding/binary"
	"errors"
	"fmt"

	"github.com/parquet-go/parquet-go/encoding/thrift"
)

// The types of Thrift's compact protocol:
// https://github.com/apache/thrift/blob/master/doc/specs/thrift-compact-protocol.md
const (
	typeStop = iota
	typeTrue
	typeFalse
	typeByte
	typeInt16
	typeInt32
	typeInt64
	typeDouble
	typeBinary
	typeList
	typeSet
	typeMap
	typeStruct
)

const (
	maxDepth = 20 // of structures and lists inside each other; Parquet's own are 8 deep

	// What a list element takes in memory when it is decoded, at most: a column of a row
	// group is the largest structure, and it and all that is larger than 64 bytes is
	// listed in the two outermost structures.
	outerElement = 1024
	innerElement = 64
	outerDepth   = 1
)

var errShort = errors.New("it ends too early")

// scan measures a structure in Thrift's compact protocol. It goes before the decoder,
// which makes room for lists and texts on the word of their lengths.
type scan struct {
	b    []byte
	at   int   // bytes that are read
	cost int64 // bytes of memory that decoding takes
}

func (s *scan) byte() (byte, error) {
	if s.at >= len(s.b) {
		return 0, errShort
	}
	s.at++
	return s.b[s.at-1], nil
}

func (s *scan) varint() (uint64, error) {
	u, n := binary.Uvarint(s.b[s.at:])
	if n == 0 {
		return 0, errShort
	}
	if n < 0 {
		return 0, errors.New("a number of more than 64 bits")
	}
	s.at += n
	return u, nil
}

func (s *scan) skip(n uint64) error {
	if n > uint64(len(s.b)-s.at) {
		return errShort
	}
	s.at += int(n)
	return nil
}

func (s *scan) structure(depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("structures are nested more than %d deep", maxDepth)
	}
	for {
		h, err := s.byte()
		if err != nil {
			return err
		}
		if h == typeStop {
			return nil
		}
		if h>>4 == 0 { // the number of the field follows
			if _, err := s.varint(); err != nil {
				return err
			}
		}
		if err := s.value(h&0xF, depth); err != nil {
			return err
		}
	}
}

func (s *scan) value(typ byte, depth int) error {
	switch typ {
	case typeTrue, typeFalse:
		return nil
	case typeByte:
		return s.skip(1)
	case typeInt16, typeInt32, typeInt64:
		_, err := s.varint()
		return err
	case typeDouble:
		return s.skip(8)
	case typeBinary:
		n, err := s.varint()
		if err != nil {
			return err
		}
		s.cost += int64(min(n, uint64(len(s.b))))
		return s.skip(n)
	case typeList:
		return s.list(depth)
	case typeStruct:
		return s.structure(depth + 1)
	}
	return fmt.Errorf("a field of the type %d, which no Parquet file has", typ)
}

func (s *scan) list(depth int) error {
	h, err := s.byte()
	if err != nil {
		return err
	}
	n, typ := uint64(h>>4), h&0xF
	if n == 15 {
		if n, err = s.varint(); err != nil {
			return err
		}
	}

	// Every element has a byte at least.
	if n > uint64(len(s.b)-s.at) {
		return errShort
	}
	switch typ {
	case typeInt16, typeInt32, typeInt64, typeDouble, typeBinary, typeStruct:
	default:
		return fmt.Errorf("a list of the type %d, which no Parquet file has", typ)
	}
	if typ == typeStruct && depth <= outerDepth {
		s.cost += int64(n) * outerElement
	} else {
		s.cost += int64(n) * innerElement
	}
	for range n {
		if err := s.value(typ, depth); err != nil {
			return err
		}
	}
	return nil
}

// decode decodes a structure that was measured.
func decode(b []byte, v any) error {
	return thrift.NewDecoder(new(thrift.CompactProtocol).NewReaderFromBytes(b)).Decode(v)
}
