package smtp

import (
	"testing"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// TestEveryCountrysLetters reads what hosts say in the letters of their country.
func TestEveryCountrysLetters(t *testing.T) {
	for _, c := range []struct {
		in    encoding.Encoding
		texts []string
	}{
		{charmap.Windows1252, []string{"550 Empfänger unbekannt", "552 boîte pleine", "550 Usuário não encontrado", "550 Okänd användare", "550 Benutzer für diese Domäne gelöscht"}},
		{charmap.Windows1250, []string{"550 Użytkownik nie istnieje", "550 Příjemce neznámý: uživatel neexistuje"}},
		{charmap.Windows1251, []string{"550 Пользователь не найден", "552 Почтовый ящик переполнен", "550 нет такого пользователя"}},
		{charmap.KOI8R, []string{"550 Пользователь не найден", "552 почтовый ящик переполнен"}},
		{charmap.Windows1254, []string{"550 Geçersiz alıcı: kullanıcı şu anda yok, değil"}},
		{charmap.Windows1253, []string{"550 Ο χρήστης δεν υπάρχει"}},
		{simplifiedchinese.GBK, []string{"550 用户不存在", "552 收件人邮箱已满", "550 您的IP已被列入黑名单", "550 发送过于频繁"}},
		{traditionalchinese.Big5, []string{"550 使用者不存在", "552 信箱已滿"}},
		{japanese.ShiftJIS, []string{"550 ユーザーが存在しません", "550 宛先のメールアドレスが見つかりません"}},
		{japanese.EUCJP, []string{"550 ユーザーが存在しません"}},
		{japanese.ISO2022JP, []string{"550 ユーザーが存在しません"}},
		{korean.EUCKR, []string{"550 사용자가 존재하지 않습니다"}},
		{encoding.Nop, []string{"550 no such user", "550 Пользователь не найден", "550 用户不存在"}},
	} {
		for _, want := range c.texts {
			sent, err := c.in.NewEncoder().String(want)
			if err != nil {
				t.Fatal(err)
			}
			if got := Decode([]byte(sent)); got != want {
				t.Errorf("%v: %q is read as %q", c.in, want, got)
			}
		}
	}
	if got := Decode([]byte("550 no\x00 such user")); got != "550 no\ufffd such user" {
		t.Errorf("with a NUL: %q", got)
	}
	if got := Decode([]byte("550 \xff\xfe\x80\x81 gone")); got == "" {
		t.Error("what no charset holds is lost")
	}
}
