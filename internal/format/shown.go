package format

import (
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"
)

// builtIn are the number formats that workbooks name by number alone
// (ECMA-376, part 1, 18.8.30).
var builtIn = map[uint16]string{1: "0", 2: "0.00", 3: "#,##0", 4: "#,##0.00", 9: "0%", 10: "0.00%", 14: "yyyy-mm-dd", 15: "yyyy-mm-dd", 16: "yyyy-mm-dd", 17: "yyyy-mm-dd",
	18: "hh:mm", 19: "hh:mm:ss", 20: "hh:mm", 21: "hh:mm:ss", 22: "yyyy-mm-dd hh:mm", 37: "#,##0", 38: "#,##0", 39: "#,##0.00", 40: "#,##0.00", 45: "mm:ss", 46: "hh:mm:ss", 47: "mm:ss"}

// shown writes a number as its style has it: dates in the order of ISO 8601,
// shares, fixed digits; whatever else is left as the plain number.
func (b *xlsBook) shown(v float64, style uint16) string {
	format := "General"
	if int(style) < len(b.styles) {
		number := b.styles[style]
		if own, ok := b.formats[number]; ok {
			format = own
		} else if known, ok := builtIn[number]; ok {
			format = known
		}
	}
	return formatted(v, format, b.since04)
}

var (
	// noFormat is what of a format is text, colour, condition or padding.
	noFormat = regexp.MustCompile(`"[^"]*"|\\.|\[[^\]]*\]|_.|\*.`)
	digits   = regexp.MustCompile(`^[#0,?]*?(0*)(\.(0+))?(%?)$`)
)

func formatted(v float64, format string, since04 bool) string {
	plain := strings.TrimSpace(noFormat.ReplaceAllString(strings.SplitN(format, ";", 2)[0], ""))
	lower := strings.ToLower(plain)
	if lower != "general" && strings.ContainsAny(lower, "ydhs") || lower != "" && strings.Trim(lower, "m/-. ") == "" {
		return date(v, strings.ContainsAny(lower, "yd"), strings.ContainsAny(lower, "hs"), since04)
	}
	m := digits.FindStringSubmatch(plain)
	if m == nil {
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	if m[4] == "%" {
		v *= 100
	}
	text := strconv.FormatFloat(math.Abs(v), 'f', len(m[3]), 64)
	whole, fraction, _ := strings.Cut(text, ".")
	whole = strings.Repeat("0", max(0, len(m[1])-len(whole))) + whole
	if fraction != "" {
		whole += "." + fraction
	}
	if v < 0 {
		whole = "-" + whole
	}
	return whole + m[4]
}

// date writes a number of days. The workbooks' year 1900 has a 29th of
// February, so that days before March are one off.
func date(v float64, day, hour, since04 bool) string {
	origin := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case since04:
		origin = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case v < 60:
		origin = origin.AddDate(0, 0, 1)
	}
	at := origin.AddDate(0, 0, int(math.Floor(v))).Add(time.Duration(math.Round((v-math.Floor(v))*86400)) * time.Second)
	switch {
	case day && hour:
		return at.Format("2006-01-02 15:04:05")
	case hour:
		return at.Format("15:04:05")
	}
	return at.Format(time.DateOnly)
}
