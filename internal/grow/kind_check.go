package grow

// Check digits of identifiers. Each function gets text from a place on, and completes it.

// gtinCheck appends the check digit of a GTIN or ISBN-13 (GS1 General Specifications, 7.9).
func gtinCheck(b []byte, from int) []byte {
	sum := 0
	for i, weight := len(b)-1, 3; i >= from; i, weight = i-1, 4-weight {
		sum += weight * int(b[i]-'0')
	}
	return append(b, byte('0'+(10-sum%10)%10))
}

// ibans are the forms of account numbers by country: # is the next digit of the number that was drawn,
// and every bank code is one that no bank has.
var ibans = map[string]string{
	"DE": "00000000##########",
	"GB": "XXXX0000##########",
	"FR": "00000000000##########",
	"ES": "00000000##########",
	"NL": "XXXX##########",
	"PL": "00000000000000##########",
	"AT": "000000##########",
	"CH": "0000000##########",
}

// ibanCheck makes an IBAN (ISO 13616) of a country and ten digits, with its check digits and those of
// the country's own scheme.
func ibanCheck(b []byte, from int) []byte {
	country, digits := string(b[from:from+2]), string(b[from+2:])
	var room [40]byte
	account := room[:0]
	next := 0
	for _, c := range []byte(ibans[country]) {
		if c == '#' {
			c = digits[next]
			next++
		}
		account = append(account, c)
	}
	switch country {
	case "FR": // clé RIB: bank and branch are zero
		account = appendPadded(account, 97-3*remainder97(0, account)%97, 2)
	case "ES":
		sum := 0
		for i, weight := range [...]int{1, 2, 4, 8, 5, 10, 9, 7, 3, 6} {
			sum += weight * int(digits[i]-'0')
		}
		check := (11 - sum%11) % 11
		if check == 10 {
			check = 1
		}
		account = append(append(account[:8], '0', byte('0'+check)), digits...)
	}
	checks := 98 - remainder97(remainder97(remainder97(0, account), []byte(country)), []byte("00"))
	b = appendPadded(append(b[:from], country...), checks, 2)
	return append(b, account...)
}

// remainder97 is the remainder by 97 of a number in which letters stand for 10 to 35 (ISO 7064); n is
// that of the digits before.
func remainder97(n uint64, text []byte) uint64 {
	for _, c := range text {
		if c >= 'A' {
			n = (n*100 + uint64(c-'A'+10)) % 97
			continue
		}
		n = (n*10 + uint64(c-'0')) % 97
	}
	return n
}

// vatCheck appends the check digit of a German VAT number (ISO 7064, mod 11,10).
func vatCheck(b []byte, from int) []byte {
	product := 10
	for _, c := range b[from+2:] {
		sum := (int(c-'0') + product) % 10
		if sum == 0 {
			sum = 10
		}
		product = 2 * sum % 11
	}
	return append(b, byte('0'+(11-product)%10))
}

// vinCheck writes the check digit of a vehicle identification number in place of the asterisk
// (49 CFR 565.15).
func vinCheck(b []byte, from int) []byte {
	const numbers = "12345678_12345_7_923456789" // of A to Z; I, O and Q are not used
	weights := [17]int{8, 7, 6, 5, 4, 3, 2, 10, 0, 9, 8, 7, 6, 5, 4, 3, 2}
	sum := 0
	for i, c := range b[from:] {
		n := 0
		switch {
		case c >= '0' && c <= '9':
			n = int(c - '0')
		case c >= 'A':
			n = int(numbers[c-'A'] - '0')
		}
		sum += weights[i] * n
	}
	b[from+8] = "0123456789X"[sum%11]
	return b
}

// hexTo completes hexadecimal digits to a length. What is added follows from what is there, so texts
// that differ before differ after.
func hexTo(length int) func([]byte, int) []byte {
	return func(b []byte, from int) []byte {
		h := uint64(length)
		for _, c := range b[from:] {
			h = mixed(h ^ uint64(c))
		}
		for len(b)-from < length {
			h = mixed(h + 1)
			b = appendHexDigits(b, h, min(16, length-(len(b)-from)))
		}
		return b
	}
}
