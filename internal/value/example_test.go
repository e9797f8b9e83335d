package value_test

import (
	"fmt"

	"evensprout/internal/value"
)

// Decimals are exact, and keep the digits that they are written with.
func ExampleParseDecimal() {
	v, err := value.ParseDecimal("12.50")
	fmt.Println(v, v.N, v.Scale, err)
	// Output: 12.50 1250 2 <nil>
}

// Texts that engines hold for the same fold to the same text.
func ExampleFold() {
	fmt.Println(value.Fold("Émile ") == value.Fold("emile"))
	// Output: true
}

func ExampleSlug() {
	fmt.Println(value.Slug("Larkwater Ferries, Ltd."))
	// Output: larkwater-ferries-ltd
}
