package account

import (
	"crypto/subtle"
	"encoding/base32"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/boombuler/barcode/qr"
	"github.com/pquerna/otp/totp"
)

// totpStep is how long a code of the second factor lasts (RFC 6238, 5.2).
const totpStep = 30 * time.Second

// totpSkew is how many steps a clock may be off, either way.
const totpSkew = 1

// newTOTP makes a secret of 160 bits (RFC 4226, 4).
func newTOTP() string {
	return drawn(32, "ABCDEFGHIJKLMNOPQRSTUVWXYZ234567")
}

// totpStepOf returns the step whose code a text is, around a moment; 0 where it is none.
func totpStepOf(secret, code string, at time.Time) (int64, error) {
	if _, err := base32.StdEncoding.DecodeString(secret); err != nil {
		return 0, fmt.Errorf("the secret of a second factor is not understood: %w", err)
	}
	code = typed(code)
	found := int64(0)
	for i := -totpSkew; i <= totpSkew; i++ {
		t := at.Add(time.Duration(i) * totpStep)
		want, err := totp.GenerateCode(secret, t)
		if err != nil {
			return 0, err
		}
		if subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			found = t.Unix() / int64(totpStep/time.Second)
		}
	}
	return found, nil
}

// totpURI is what the QR code of a secret holds.
func totpURI(secret, address string) string {
	return "otpauth://totp/" + url.PathEscape("Varnet:"+address) + "?" + url.Values{"secret": {secret}, "issuer": {"Varnet"}}.Encode()
}

// quiet is how many modules around a QR code stay white (ISO/IEC 18004).
const quiet = 4

// qrSVG draws a text as a QR code: one path of runs of dark modules.
func qrSVG(text string) (string, error) {
	code, err := qr.Encode(text, qr.M, qr.Auto)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	n := code.Bounds().Dx()
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" shape-rendering="crispEdges"><path fill="#fff" d="M0 0h%dv%dH0z"/><path d="`, n+2*quiet, n+2*quiet, n+2*quiet, n+2*quiet)
	for y := range n {
		for x := 0; x < n; {
			run := 0
			for x+run < n && dark(code.At(x+run, y)) {
				run++
			}
			if run > 0 {
				fmt.Fprintf(&b, "M%d %dh%dv1h-%dz", x+quiet, y+quiet, run, run)
			}
			x += max(run, 1)
		}
	}
	b.WriteString(`"/></svg>`)
	return b.String(), nil
}

// dark reports whether a module of a QR code is dark.
func dark(c interface{ RGBA() (r, g, b, a uint32) }) bool {
	r, _, _, _ := c.RGBA()
	return r < 0x8000
}
