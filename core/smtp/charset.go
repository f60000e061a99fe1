package smtp

import (
	"bytes"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"

	"varnet/core/say"
)

// RFC 5321 section 4.2 has replies in ASCII, RFC 6531 in UTF-8. Hosts write them in
// the letters of their country all the same; without its words a refusal says
// nothing.

// charsets are the ways in which hosts write other letters than UTF-8's; of equally
// likely ones the first is taken.
var charsets = []encoding.Encoding{
	charmap.Windows1252, charmap.Windows1250, charmap.Windows1251, charmap.KOI8R, charmap.Windows1254, charmap.Windows1253,
	simplifiedchinese.GBK, traditionalchinese.Big5, japanese.ShiftJIS, japanese.EUCJP, korean.EUCKR,
}

// Decode returns a line of 8-bit text whose character set nobody names. What can be read
// in no way has replacement characters in its place, and so has NUL, which no reply may contain (RFC 5321 section 4.2)
// and no database takes.
func Decode(line []byte) string { return say.AsText(decode(line)) }

func decode(line []byte) string {
	if bytes.Contains(line, []byte("\x1b$")) || bytes.Contains(line, []byte("\x1b(")) {
		if s, err := japanese.ISO2022JP.NewDecoder().Bytes(line); err == nil {
			return string(s)
		}
	}
	if utf8.Valid(line) {
		return string(line)
	}
	best, least := "", 0
	for _, c := range charsets {
		text, err := c.NewDecoder().Bytes(line)
		if err != nil {
			continue
		}
		if odd := oddness(string(text)); best == "" || odd < least {
			best, least = string(text), odd
		}
	}
	return best
}

// oddness counts what text in a language does not have: signs among letters, letters
// of two scripts in one word, a capital behind a small letter, and signs that are
// seldom written.
func oddness(text string) (odd int) {
	last, latin := ' ', map[rune]bool{}
	for _, r := range text {
		switch {
		case r < utf8.RuneSelf:
		case r == utf8.RuneError || unicode.IsControl(r) || unicode.Is(unicode.Co, r):
			odd += 20
		case unicode.IsSymbol(r) || unicode.IsPunct(r) && !unicode.Is(unicode.Han, r):
			odd += 3
		case unicode.Is(unicode.Han, r):
			odd += 1 + rare(r)
		case r >= 0xff61 && r <= 0xff9f: // half-width signs of Japanese
			odd += 4
		case unicode.Is(unicode.Hangul, r):
			odd += rare(r)
		case unicode.In(r, unicode.Hiragana, unicode.Katakana):
		case unicode.IsUpper(r):
			odd += 2
		}
		if r >= utf8.RuneSelf && unicode.Is(unicode.Latin, r) {
			latin[r] = true
			if last >= utf8.RuneSelf {
				odd += 2
			}
		}
		if unicode.IsLetter(last) && unicode.IsLetter(r) {
			if unicode.IsLower(last) && unicode.IsUpper(r) && r >= utf8.RuneSelf {
				odd += 6
			}
			if script(last) != script(r) {
				odd += 5
			}
		}
		last = r
	}
	if !oneLanguage(latin) {
		odd += 6
	}
	return odd
}

// alphabets are the small letters beyond ASCII of the languages written in Latin
// ones. A text whose letters are in no single one of them is misread.
var alphabets = strings.Fields("äöüß àâæçéèêëîïíôœùûüÿ áéíñóúü áâãàçéêíóôõú àèéìíîòóùú åäöé æøåéóòôü ąćęłńóśźż áčďéěíňóřšťúůýž áäčďéíĺľňóôŕšťúýž áéíóöőúüű ăâîșțşţ čćđšž çğıöşüâîû áéíóúýþæöð äöõüšž āčēģīķļņšūž ąčęėįšųūž")

func oneLanguage(letters map[rune]bool) bool {
	for _, alphabet := range alphabets {
		all := true
		for r := range letters {
			all = all && strings.ContainsRune(alphabet, unicode.ToLower(r))
		}
		if all {
			return true
		}
	}
	return false
}

// common are the signs of Chinese, Japanese and Korean that replies about mailboxes
// are made of.
var common = func() map[rune]bool {
	m := map[rune]bool{}
	for _, r := range "不存在用户戶邮郵箱收件人地址无無效找到此查信已满滿空间間停禁拒绝絕发發送寄过過于於频頻率限制连連接数數黑名单單您的主机機服务務器稍后後再试試請请重域帐帳号號被使者账容量足未知错誤误系统統封锁鎖宛先見登録該当受信者送信多制限利用停止無効可能件数接続元拒否現在一時的時間開始名前존재하지않습니다사용자를찾을수없는용량초과가되었받은편함너무많연결차단보낸람인증서버메일주소계정휴면거부금후에시도세요등록잘못된이의로해주입받을습한할알" {
		m[r] = true
	}
	return m
}()

func rare(r rune) int {
	if common[r] {
		return 0
	}
	return 3
}

func script(r rune) int {
	switch {
	case unicode.Is(unicode.Latin, r):
		return 1
	case unicode.Is(unicode.Cyrillic, r):
		return 2
	case unicode.Is(unicode.Greek, r):
		return 3
	case unicode.In(r, unicode.Han, unicode.Hiragana, unicode.Katakana) || r == 'ー':
		return 4
	case unicode.Is(unicode.Hangul, r):
		return 5
	}
	return 6
}
