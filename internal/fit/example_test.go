package fit_test

import (
	"fmt"

	"evensprout/internal/fit"
	"evensprout/internal/schema"
	"evensprout/internal/value"
)

func ExampleValue() {
	c := &schema.Column{Name: "code", Kind: schema.Text, Length: 3, Declared: "varchar(3)"}
	v := value.String("HARBOUR")
	fmt.Println(fit.Value(c, &v).Message)
	// Output: 7 characters are too long for varchar(3)
}
