package derive_test

import (
	"fmt"

	"evensprout/internal/derive"
	"evensprout/internal/value"
)

// An expression in CEL is compiled once, and is then a pure function of its inputs.
func ExampleParse() {
	parsed, err := derive.Parse("price * seats")
	if err != nil {
		fmt.Println(err)
		return
	}
	inputs := []derive.Input{
		{Name: "price", Type: value.Decimal, Scale: 2},
		{Name: "seats", Type: value.Integer},
	}
	total, err := parsed.Compile(inputs, 2)
	if err != nil {
		fmt.Println(err)
		return
	}
	price, _ := value.ParseDecimal("4.50")
	fmt.Println(total.Eval([]value.Value{price, value.Int(3)}))
	// Output: 13.50 <nil>
}
