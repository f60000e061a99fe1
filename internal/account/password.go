package account

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Bounds of a password, in characters.
const (
	LeastPassword = 10
	MostPassword  = 200
)

// mostUsed are the passwords that are used most, from published leaks, in order.
//
//go:embed passwords.txt.gz
var mostUsed []byte

var usedPasswords = sync.OnceValue(func() []string {
	r, err := gzip.NewReader(bytes.NewReader(mostUsed))
	if err != nil {
		panic(err) // it is built in
	}
	text, err := io.ReadAll(r)
	if err != nil {
		panic(err)
	}
	return strings.Fields(string(text))
})

// WeakPassword says what speaks against a password for somebody; "" when nothing does.
func WeakPassword(password, address, name string) string {
	switch n := utf8.RuneCountInString(password); {
	case n < LeastPassword:
		return fmt.Sprintf("It has %d characters; a password needs at least %d.", n, LeastPassword)
	case n > MostPassword:
		return fmt.Sprintf("It has %d characters; a password has at most %d.", n, MostPassword)
	case !utf8.ValidString(password):
		return "It is not text."
	}
	low := strings.ToLower(password)
	local, domain, _ := strings.Cut(strings.ToLower(address), "@")
	host, _, _ := strings.Cut(domain, ".")
	for _, part := range append(strings.Fields(strings.ToLower(name)), strings.ToLower(name), strings.ToLower(address), local, host, "varnet") {
		if len(part) >= 4 && strings.Contains(low, part) && len(low)-len(part) < LeastPassword-4 {
			return "It is too much like your name or address, which others know. Choose another."
		}
	}
	if len(slices.Compact(slices.Sorted(slices.Values([]rune(low))))) < 4 {
		return "It is made of too few different characters. Choose another."
	}
	if used(low) || used(plain(low)) {
		return "It is among the passwords that are used most, so it is tried first. Choose another."
	}
	return ""
}

func used(text string) bool {
	_, found := slices.BinarySearch(usedPasswords(), text)
	return found
}

// plain takes off what people put around a usual word so that it counts as a password:
// digits and signs at the ends, and digits in the place of letters.
func plain(low string) string {
	low = strings.TrimFunc(low, func(r rune) bool { return !unicode.IsLetter(r) })
	return strings.NewReplacer("0", "o", "1", "i", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s").Replace(low)
}

// What a hash costs (OWASP's second choice for argon2id): 19 MiB of memory, two passes.
const (
	hashMemory  = 19 << 10 // KiB
	hashPasses  = 2
	hashThreads = 1
	hashLength  = 32
	saltLength  = 16
)

// hashing bounds how many passwords are hashed at once, and so the memory it takes.
var hashing = make(chan struct{}, 2)

// derive hashes a password, as soon as it is its turn.
func derive(ctx context.Context, password string, salt []byte, passes, memory uint32, threads uint8, length uint32) ([]byte, error) {
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, passes, memory, threads, length), nil
}

// HashPassword returns the argon2id hash of a password in PHC form (RFC 9106).
func HashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, saltLength)
	_, _ = rand.Read(salt) // never fails
	sum, err := derive(ctx, password, salt, hashPasses, hashMemory, hashThreads, hashLength)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, hashMemory, hashPasses, hashThreads, b64.EncodeToString(salt), b64.EncodeToString(sum)), err
}

// nobodys is a hash that no password has: comparing with it takes as long as with another.
var nobodys = fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, hashMemory, hashPasses, hashThreads,
	base64.RawStdEncoding.EncodeToString(make([]byte, saltLength)), base64.RawStdEncoding.EncodeToString(make([]byte, hashLength)))

// rightPassword reports whether a password has a hash; a nil hash takes as long and is never
// right.
func rightPassword(ctx context.Context, password string, hash *string) (bool, error) {
	if hash == nil {
		hash = &nobodys
	}
	var version int
	var memory, passes uint32
	var threads uint8
	parts := strings.Split(*hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, fmt.Errorf("a password's hash is not understood")
	}
	if _, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &memory, &passes, &threads); err != nil {
		return false, fmt.Errorf("a password's hash is not understood: %w", err)
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, fmt.Errorf("a password's hash is not understood: %w", err)
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil {
		return false, fmt.Errorf("a password's hash is not understood: %w", err)
	}
	sum, err := derive(ctx, password, salt, passes, memory, threads, uint32(len(want)))
	return err == nil && subtle.ConstantTimeCompare(sum, want) == 1, err
}
