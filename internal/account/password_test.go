package account

import (
	"strings"
	"testing"
	"time"
)

// TestPasswords: those that are tried first are refused, and what is hashed is known again.
func TestPasswords(t *testing.T) {
	for password, why := range map[string]string{
		"medlar": "at least 10", "qwertyuiop": "used most", "Password2024!": "used most", "P@ssw0rd1234": "used most", "1234567890": "used most", "football99999": "used most",
		"aaaaaaaaaaaa": "too few", "ada.moss2024": "like your name", "fernhollow1": "like your name", strings.Repeat("quince ", 40): "at most 200",
		"quince and medlar": "", "correct-hedgerow-47": "", "die Hecke blüht spät": "", "ada.moss likes quince": "",
	} {
		got := WeakPassword(password, "ada.moss@fernhollow.example", "Ada Moss")
		if (why == "") != (got == "") || !strings.Contains(got, why) {
			t.Errorf("%q: %q, want %q", password, got, why)
		}
	}
	hash, err := HashPassword(t.Context(), "quince and medlar")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Fatalf("%s, %v", hash, err)
	}
	for password, want := range map[string]bool{"quince and medlar": true, "quince and medla": false, "": false} {
		if right, err := rightPassword(t.Context(), password, &hash); err != nil || right != want {
			t.Errorf("%q: %v, %v", password, right, err)
		}
	}
	if right, err := rightPassword(t.Context(), "quince and medlar", nil); right || err != nil {
		t.Errorf("nobody's password: %v, %v", right, err)
	}
	broken := "$argon2id$v=19$m=19456$x"
	if _, err := rightPassword(t.Context(), "x", &broken); err == nil {
		t.Error("a broken hash is none")
	}
}

// TestSecondFactor: the codes of RFC 6238, appendix B (their last six digits), each in its step
// and the ones beside it.
func TestSecondFactor(t *testing.T) {
	const secret = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ" // 12345678901234567890
	for at, code := range map[int64]string{59: "287082", 1111111109: "081804", 1111111111: "050471", 1234567890: "005924", 2000000000: "279037", 20000000000: "353130"} {
		for off, fits := range map[time.Duration]bool{0: true, 30 * time.Second: true, -30 * time.Second: true, 90 * time.Second: false} {
			step, err := totpStepOf(secret, code[:3]+" "+code[3:], time.Unix(at, 0).Add(off))
			if err != nil || (step == at/30) != fits {
				t.Errorf("%s at %d and %v: step %d, %v", code, at, off, step, err)
			}
		}
	}
	if _, err := totpStepOf("not base 32", "287082", time.Now()); err == nil {
		t.Error("a broken secret is none")
	}
	svg, err := qrSVG(totpURI(secret, "ada.moss@fernhollow.example"))
	if err != nil || !strings.HasPrefix(svg, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 `) || strings.Count(svg, "h") < 200 {
		t.Errorf("%v: %s", err, svg)
	}
}

// TestCodes: codes are read however they are typed, and never twice the same.
func TestCodes(t *testing.T) {
	seen := map[string]bool{}
	for _, c := range append(newRecoveryCodes(), newRecoveryCodes()...) {
		if seen[c] || recoveryForm(strings.ToUpper(strings.ReplaceAll(c, "-", " "))) != c {
			t.Errorf("%s, read as %s", c, recoveryForm(c))
		}
		seen[c] = true
	}
	if c := newUserCode(); userForm(strings.ToLower(strings.Replace(c, "-", "", 1))) != c || strings.ContainsAny(c, "AEIOUY0123456789") {
		t.Errorf("%s, read as %s", c, userForm(c))
	}
	if c := newCode(); len(c) != 6 || typed(spaced(c)) != c {
		t.Error(c)
	}
	for _, no := range []string{"", "123", "b-c-d"} {
		if recoveryForm(no) != "" || userForm(no) != "" {
			t.Errorf("%q is a code", no)
		}
	}
}

// TestThrottles: waits rise, from the first to the longest.
func TestThrottles(t *testing.T) {
	last := time.Duration(0)
	for n := range 60 {
		w := ofAccount.wait(n)
		if w < last || n < ofAccount.free && w > 0 || n >= ofAccount.free && w == 0 {
			t.Errorf("after %d tries: %v, before %v", n, w, last)
		}
		last = w
	}
	if last != ofAccount.longest {
		t.Errorf("the longest wait is %v", last)
	}
}

// TestDevices: browsers as people know them.
func TestDevices(t *testing.T) {
	for agent, want := range map[string]string{
		"Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0":                                                                  "Firefox on Linux",
		"Mozilla/5.0 (iPhone; CPU iPhone OS 17_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/17.0 Mobile/15E148 Safari/604.1": "Safari on iOS",
		"Mozilla/5.0 (Windows NT 10.0; Win64; x64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/126.0.0.0 Safari/537.36 Edg/126.0.0.0":           "Edge on Windows",
		"varnet/1 (office)": "office", "": "a browser on an unknown system",
	} {
		if got := DeviceOf(agent); got != want {
			t.Errorf("%q: %q, want %q", agent, got, want)
		}
	}
}

// TestRoles: each role may do all that the next may, and no role what is not its own.
func TestRoles(t *testing.T) {
	roles := Roles()
	for i, r := range roles {
		if r.Says() == "" || !IsRole(string(r)) {
			t.Errorf("%q", r)
		}
		if i == 0 {
			continue
		}
		for _, s := range r.Scopes(false) {
			if !has(roles[i-1], s) {
				t.Errorf("a %s may %s and a %s may not", r, s, roles[i-1])
			}
		}
	}
	for scope, want := range map[Scope]Role{Read: Reader, Export: Member, Manage: Manager, Team: Owner, Installation: "", Self: ""} {
		if got := LeastRole(scope); got != want {
			t.Errorf("the least role to %s is %q, want %q", scope, got, want)
		}
	}
	if has(Reader, Export) || len(Reader.Scopes(true)) != 2 {
		t.Error("a reader exports where the workspace does not allow it, or not where it does")
	}
}

func has(r Role, s Scope) bool {
	for _, x := range r.Scopes(false) {
		if x == s {
			return true
		}
	}
	return false
}
