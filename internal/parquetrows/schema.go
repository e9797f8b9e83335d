package parquetrows

import (
	"fmt"

	"github.com/parquet-go/parquet-go/deprecated"
	"github.com/parquet-go/parquet-go/format"
)

// columns reads the schema: a root, and a leaf for each column.
func columns(schema []format.SchemaElement) ([]Column, error) {
	if len(schema) == 0 {
		return nil, damaged("it has no schema")
	}
	root, leaves := &schema[0], schema[1:]
	for i := range leaves {
		s := &leaves[i]
		if s.NumChildren.Valid && s.NumChildren.V > 0 || s.RepetitionType.V == format.Repeated || !s.Type.Valid {
			return nil, &NestedError{s.Name}
		}
	}

	if root.NumChildren.Valid && int(root.NumChildren.V) != len(leaves) {
		return nil, damaged("its schema has %d columns, and says %d", len(leaves), root.NumChildren.V)
	}
	out := make([]Column, len(leaves))
	for i := range leaves {
		s := &leaves[i]
		c := &out[i]
		*c = Column{
			Name:     s.Name,
			Kind:     s.Type.V,
			Logical:  logical(s),
			Optional: s.RepetitionType.V == format.Optional && s.RepetitionType.Valid,
		}
		if c.Kind == format.FixedLenByteArray {
			if c.Length = int(s.TypeLength.V); c.Length <= 0 {
				return nil, damaged("the column %s has values of %d bytes", c.Name, c.Length)
			}
		}
		if c.Kind < format.Boolean || c.Kind > format.FixedLenByteArray {
			return nil, fmt.Errorf("the column %s has the type %s, which is not supported", c.Name, c.Kind)
		}
	}
	return out, nil
}

// logical is what the values of a column mean: its logical type, or what older files say
// in its place.
func logical(s *format.SchemaElement) format.LogicalTypeValue {
	if s.LogicalType.Value != nil || !s.ConvertedType.Valid {
		return s.LogicalType.Value
	}
	millis, micros := format.TimeUnit{Value: new(format.MilliSeconds)}, format.TimeUnit{Value: new(format.MicroSeconds)}
	switch s.ConvertedType.V {
	case deprecated.UTF8:
		return new(format.StringType)
	case deprecated.Enum:
		return new(format.EnumType)
	case deprecated.Json:
		return new(format.JsonType)
	case deprecated.Decimal:
		return &format.DecimalType{Scale: s.Scale.V, Precision: s.Precision.V}
	case deprecated.Date:
		return new(format.DateType)
	case deprecated.TimeMillis:
		return &format.TimeType{Unit: millis}
	case deprecated.TimeMicros:
		return &format.TimeType{Unit: micros}
	case deprecated.TimestampMillis:
		return &format.TimestampType{Unit: millis}
	case deprecated.TimestampMicros:
		return &format.TimestampType{Unit: micros}
	case deprecated.Uint8, deprecated.Uint16, deprecated.Uint32, deprecated.Uint64:
		return &format.IntType{BitWidth: 8 << (s.ConvertedType.V - deprecated.Uint8)}
	}
	return nil
}
