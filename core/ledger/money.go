package ledger

import (
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/text/currency"
)

// minor are the currencies whose smallest unit is not a hundredth, by its decimal digits (ISO 4217,
// minor units). What the locale data of x/text says is how prices are written in shops, which is
// not the same.
var minor = map[int]string{
	0: "BIF CLP DJF GNF ISK JPY KMF KRW PYG RWF UGX UYI VND VUV XAF XOF XPF",
	3: "BHD IQD JOD KWD LYD OMR TND",
	4: "CLF UYW",
}

// DigitsOf returns how many decimal digits the smallest unit of a currency has (ISO 4217): 2 for EUR,
// 0 for JPY.
func DigitsOf(code string) (int, error) {
	unit, err := currency.ParseISO(code)
	if err != nil || unit.String() != code {
		return 0, fmt.Errorf("%q is not a currency: three capital letters, as in ISO 4217", code)
	}
	for digits, codes := range minor {
		if strings.Contains(codes, code) {
			return digits, nil
		}
	}
	return 2, nil
}

// Money writes an amount in the smallest unit of a currency, such as EUR 1,234.50.
func Money(code string, amount int64) string {
	digits, err := DigitsOf(code)
	if err != nil {
		digits = 0
	}
	sign := ""
	if amount < 0 {
		sign, amount = "-", -amount
	}
	text := strconv.FormatInt(amount, 10)
	if short := digits + 1 - len(text); short > 0 {
		text = strings.Repeat("0", short) + text
	}
	whole, rest := text[:len(text)-digits], text[len(text)-digits:]
	for i := len(whole) - 3; i > 0; i -= 3 {
		whole = whole[:i] + "," + whole[i:]
	}
	if digits > 0 {
		whole += "." + rest
	}
	return code + " " + sign + whole
}
