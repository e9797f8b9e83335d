package rng_test

import (
	"fmt"

	"evensprout/internal/rng"
)

// Row n of a unique field is found at once: nothing is remembered.
func ExampleNewPermutation() {
	p := rng.NewPermutation(rng.NewKey("seed", "Berth.number"), 10)
	for i := range uint64(10) {
		fmt.Print(p.At(i), " ")
	}
	// Output: 5 9 4 8 1 6 3 0 2 7
}

// Parents get their numbers of children: each block of parents holds the same ones.
func ExampleNewDeal() {
	d, err := rng.NewDeal(rng.NewKey("seed", "Berth"), 0, 3)
	if err != nil {
		fmt.Println(err)
		return
	}
	dealt := rng.NewDealt(d)
	for child := range uint64(6) {
		parent, ordinal := dealt.Parent(child)
		fmt.Printf("child %d is number %d of parent %d\n", child, ordinal, parent)
	}
	// Output:
	// child 0 is number 0 of parent 0
	// child 1 is number 1 of parent 0
	// child 2 is number 0 of parent 1
	// child 3 is number 0 of parent 2
	// child 4 is number 1 of parent 2
	// child 5 is number 0 of parent 3
}
