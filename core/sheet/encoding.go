package sheet

import (
	"bytes"
	"errors"
	"io"
	"maps"
	"slices"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// The encodings that are guessed; Encodings lists all.
const (
	UTF8        = "utf-8"
	UTF16LE     = "utf-16le"
	UTF16BE     = "utf-16be"
	Windows1252 = "windows-1252"
	Windows1251 = "windows-1251"
)

// singleByte are the encodings of one byte a letter, by their IANA names. They
// leave delimiters, quotes and line ends where they are, so that a record keeps
// its bytes.
var singleByte = map[string]encoding.Encoding{
	Windows1252: charmap.Windows1252, Windows1251: charmap.Windows1251, "windows-1250": charmap.Windows1250,
	"windows-1253": charmap.Windows1253, "windows-1254": charmap.Windows1254, "windows-1255": charmap.Windows1255,
	"windows-1256": charmap.Windows1256, "windows-1257": charmap.Windows1257, "windows-1258": charmap.Windows1258,
	"iso-8859-1": charmap.ISO8859_1, "iso-8859-2": charmap.ISO8859_2, "iso-8859-3": charmap.ISO8859_3, "iso-8859-4": charmap.ISO8859_4,
	"iso-8859-5": charmap.ISO8859_5, "iso-8859-6": charmap.ISO8859_6, "iso-8859-7": charmap.ISO8859_7, "iso-8859-8": charmap.ISO8859_8,
	"iso-8859-9": charmap.ISO8859_9, "iso-8859-10": charmap.ISO8859_10, "iso-8859-13": charmap.ISO8859_13, "iso-8859-14": charmap.ISO8859_14,
	"iso-8859-15": charmap.ISO8859_15, "iso-8859-16": charmap.ISO8859_16, "koi8-r": charmap.KOI8R, "koi8-u": charmap.KOI8U,
	"ibm437": charmap.CodePage437, "ibm850": charmap.CodePage850, "macintosh": charmap.Macintosh,
}

// doubleByte encodings are turned into UTF-8 on the way in and back on the way
// out; their byte order mark stays part of the text.
var doubleByte = map[string]encoding.Encoding{
	UTF16LE: unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM),
	UTF16BE: unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM),
}

// Encodings lists the encodings.
func Encodings() []string {
	rest := append(slices.Collect(maps.Keys(singleByte)), slices.Collect(maps.Keys(doubleByte))...)
	slices.Sort(rest)
	return append([]string{UTF8}, rest...)
}

// reader returns a file as the text that records are cut from.
func (d Dialect) reader(in io.Reader) io.Reader {
	if e, ok := doubleByte[d.Encoding]; ok {
		return transform.NewReader(in, transform.Chain(wholeLetters{high: d.Encoding == UTF16BE}, e.NewDecoder()))
	}
	return in
}

// errHalfLetter tells what is not UTF-16: decoded, it would be lost.
var errHalfLetter = errors.New("half a letter of UTF-16")

// wholeLetters passes UTF-16 on as it is, up to half a letter: a byte of the two that
// make a unit, or a unit of a pair without the other (RFC 2781 section 2.2).
type wholeLetters struct {
	transform.NopResetter
	high bool // the high byte of a unit comes first
}

func (w wholeLetters) Transform(dst, src []byte, atEOF bool) (written, read int, err error) {
	for read < len(src) {
		size, whole := w.letter(src[read:])
		switch {
		case !whole && !atEOF && len(src)-read < size:
			return written, read, transform.ErrShortSrc
		case !whole:
			return written, read, errHalfLetter
		case written+size > len(dst):
			return written, read, transform.ErrShortDst
		}
		written, read = written+copy(dst[written:], src[read:read+size]), read+size
	}
	return written, read, nil
}

// letter returns the size in bytes of the letter at the beginning, and whether it is
// there as a whole.
func (w wholeLetters) letter(b []byte) (size int, whole bool) {
	const pairs, seconds, end = 0xd800, 0xdc00, 0xe000 // of the units that make pairs
	unit := func(b []byte) int {
		if w.high {
			return int(b[0])<<8 | int(b[1])
		}
		return int(b[1])<<8 | int(b[0])
	}
	switch {
	case len(b) < 2:
		return 2, false
	case unit(b) < pairs || unit(b) >= end:
		return 2, true
	case unit(b) >= seconds:
		return 2, false
	case len(b) < 4:
		return 4, false
	}
	second := unit(b[2:])
	return 4, second >= seconds && second < end
}

// Kept is the dialect of records as a Reader gives them.
func (d Dialect) Kept() Dialect {
	if _, ok := doubleByte[d.Encoding]; ok {
		d.Encoding = UTF8
	}
	return d
}

// Writer writes records as they are written in a file of this dialect. Close
// writes what is left, and does not close w.
func (d Dialect) Writer(w io.Writer) io.WriteCloser {
	if e, ok := doubleByte[d.Encoding]; ok {
		return transform.NewWriter(w, e.NewEncoder())
	}
	return asItIs{w}
}

type asItIs struct{ io.Writer }

func (asItIs) Close() error { return nil }

// guessEncoding tells how letters are written from the beginning of a file.
func guessEncoding(sample []byte) string {
	switch {
	case bytes.HasPrefix(sample, []byte{0xff, 0xfe}):
		return UTF16LE
	case bytes.HasPrefix(sample, []byte{0xfe, 0xff}):
		return UTF16BE
	case everySecond(sample, 1):
		return UTF16LE
	case everySecond(sample, 0):
		return UTF16BE
	case validUTF8(sample):
		return UTF8
	case cyrillic(sample):
		return Windows1251
	}
	return Windows1252
}

// everySecond tells text of mostly Latin letters in UTF-16 without a mark:
// every second byte is zero, and no other.
func everySecond(b []byte, from int) bool {
	zeros, others, n := 0, 0, 0
	for i, c := range b {
		switch {
		case i%2 == from:
			n++
			if c == 0 {
				zeros++
			}
		case c == 0:
			others++
		}
	}
	return n > 8 && zeros*10 > n*8 && others*50 < n
}

// cyrillic tells Windows-1251: its words are long runs of high letters, where
// Latin text has single ones.
func cyrillic(b []byte) bool {
	inRuns, high, run := 0, 0, 0
	for _, c := range append(bytes.Clone(b), ' ') {
		if c >= 0xc0 {
			run++
			high++
			continue
		}
		if run >= 3 {
			inRuns += run
		}
		run = 0
	}
	return inRuns*2 > high
}
