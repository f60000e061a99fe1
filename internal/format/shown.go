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

// numberFormats are how numbers are shown in a workbook.
type numberFormats struct {
	own     map[uint16]string // the workbook's own, by number
	styles  []uint16          // the format's number, by style
	since04 bool              // days are counted from 1904
	read    map[uint16]numberFormat
}

// shown writes a number as its style has it: dates in the order of ISO 8601,
// shares, fixed digits; whatever else is left as the plain number.
func (f *numberFormats) shown(v float64, style int) string {
	var number uint16
	if style >= 0 && style < len(f.styles) {
		number = f.styles[style]
	}
	form, known := f.read[number]
	if !known {
		code, own := f.own[number]
		if !own {
			code = builtIn[number]
		}
		form = readNumberFormat(code)
		if f.read == nil {
			f.read = map[uint16]numberFormat{}
		}
		f.read[number] = form
	}
	return form.shown(v, f.since04)
}

// numberFormat is what a format says of a number.
type numberFormat struct {
	day, hour     bool // a date, a time, or both
	digits        bool // at least so many before the point, and so many after it
	before, after int
	share         bool // of a hundred
	month         bool // a date that names no day or year
}

var (
	// noFormat is what of a format is text, colour, condition or padding.
	noFormat = regexp.MustCompile(`"[^"]*"|\\.|\[[^\]]*\]|_.|\*.`)
	digits   = regexp.MustCompile(`^[#0,?]*?(0*)(\.(0+))?(%?)$`)
)

func readNumberFormat(code string) (f numberFormat) {
	plain := strings.TrimSpace(noFormat.ReplaceAllString(strings.SplitN(code, ";", 2)[0], ""))
	lower := strings.ToLower(plain)
	if lower == "general" || lower == "" {
		return f
	}
	if f.day, f.hour = strings.ContainsAny(lower, "yd"), strings.ContainsAny(lower, "hs"); f.day || f.hour {
		return f
	}
	if f.month = strings.Trim(lower, "m/-. ") == ""; f.month {
		return f
	}
	if m := digits.FindStringSubmatch(plain); m != nil {
		f.digits, f.before, f.after, f.share = true, len(m[1]), len(m[3]), m[4] == "%"
	}
	return f
}

func (f numberFormat) shown(v float64, since04 bool) string {
	switch {
	case f.day, f.hour, f.month:
		return date(v, f.day, f.hour, since04)
	case !f.digits:
		return plainNumber(v)
	case f.share:
		v *= 100
	}
	text := strconv.FormatFloat(math.Abs(v), 'f', f.after, 64)
	whole, fraction, _ := strings.Cut(text, ".")
	whole = strings.Repeat("0", max(0, f.before-len(whole))) + whole
	if fraction != "" {
		whole += "." + fraction
	}
	if v < 0 {
		whole = "-" + whole
	}
	if f.share {
		whole += "%"
	}
	return whole
}

// plainNumber writes a number with the 15 digits that spreadsheets have.
func plainNumber(v float64) string {
	if short, err := strconv.ParseFloat(strconv.FormatFloat(v, 'g', 15, 64), 64); err == nil {
		v = short
	}
	return strconv.FormatFloat(v, 'f', -1, 64)
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
