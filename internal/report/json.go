package report

import (
	"encoding/base64"
	"encoding/json"

	"evensprout/internal/value"
)

// Object is a JSON object that keeps the order of its keys.
type Object struct {
	keys   []string
	values []any
}

// Set adds a key.
func (o *Object) Set(key string, value any) {
	o.keys = append(o.keys, key)
	o.values = append(o.values, value)
}

// MarshalJSON writes the keys in the order in which they were set.
func (o *Object) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, k := range o.keys {
		if i > 0 {
			b = append(b, ',')
		}
		key, err := json.Marshal(k)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(o.values[i])
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, key...), ':'), value...)
	}
	return append(b, '}'), nil
}

// JSON turns a value into what encoding/json writes: numbers as exact numbers,
// booleans, null, bytes in base64 (RFC 4648), the rest as text.
func JSON(v value.Value) any {
	switch v.Type {
	case value.Null:
		return nil
	case value.Integer, value.Decimal:
		return json.Number(v.String())
	case value.Boolean:
		return v.N != 0
	case value.Bytes:
		return base64.StdEncoding.EncodeToString([]byte(v.S))
	case value.JSON:
		return json.RawMessage(v.S)
	}
	return v.String()
}
