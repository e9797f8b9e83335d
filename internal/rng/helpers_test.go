package rng

import "strconv"

// chiSquared95 is the 95% quantile of chi-squared for the degrees of freedom
// used here (Abramowitz and Stegun, table 26.8).
var chiSquared95 = map[int]float64{1: 3.841, 2: 5.991, 4: 9.488, 7: 14.067, 9: 16.919, 63: 82.529}

// maxSpace is the largest space that is divided.
const maxSpace = 1 << 62

func testKey(i int, name string) Key { return NewKey("1", strconv.Itoa(i), "Thing", name) }
