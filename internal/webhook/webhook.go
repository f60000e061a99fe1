// Package webhook signs calls of webhooks and verifies them, in the form of Standard Webhooks:
// the headers webhook-id, webhook-timestamp and webhook-signature, with an HMAC-SHA256 over
// "id.timestamp.body" by a secret that both sides know.
package webhook

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// The headers of a call.
const (
	ID        = "webhook-id"        // the same for every attempt: a receiver drops repeats by it
	Timestamp = "webhook-timestamp" // of the attempt, in seconds since 1970
	Signature = "webhook-signature" // one or several, with spaces between
)

const (
	prefix  = "whsec_"
	version = "v1,"
)

// NewSecret returns a secret of 256 random bits.
func NewSecret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails
	return prefix + base64.StdEncoding.EncodeToString(b)
}

// ErrSecret tells a text that is not a secret.
var ErrSecret = errors.New("this is not a secret of a webhook: it begins with " + prefix + " and goes on in base64")

func key(secret string) ([]byte, error) {
	text, ok := strings.CutPrefix(secret, prefix)
	k, err := base64.StdEncoding.DecodeString(text)
	if !ok || err != nil || len(k) < 24 || len(k) > 64 {
		return nil, ErrSecret
	}
	return k, nil
}

// Sign adds the headers of a call at a time, with a signature by each secret, so that a
// receiver which knows one of them takes it.
func Sign(h http.Header, id string, at time.Time, body []byte, secrets ...string) error {
	stamp := strconv.FormatInt(at.Unix(), 10)
	var all []string
	for _, secret := range secrets {
		k, err := key(secret)
		if err != nil {
			return err
		}
		all = append(all, version+base64.StdEncoding.EncodeToString(mac(k, id, stamp, body)))
	}
	h.Set(ID, id)
	h.Set(Timestamp, stamp)
	h.Set(Signature, strings.Join(all, " "))
	return nil
}

func mac(key []byte, id, stamp string, body []byte) []byte {
	m := hmac.New(sha256.New, key)
	_, _ = m.Write([]byte(id + "." + stamp + "."))
	_, _ = m.Write(body)
	return m.Sum(nil)
}

// tolerance is by how much the clocks of both sides may differ.
const tolerance = 5 * time.Minute

// What Verify may find.
var (
	ErrUnsigned = errors.New("the call is not signed: one of the headers " + ID + ", " + Timestamp + " and " + Signature + " is missing")
	ErrForged   = errors.New("no signature of the call is by this secret")
	ErrOld      = errors.New("the call was signed more than 5 minutes from now: the clocks differ, or somebody sends it again")
)

// Verify returns the id of a call that was signed by the secret, not more than 5 minutes from
// now. A receiver that has seen the id before answers 2xx and does nothing.
func Verify(secret string, h http.Header, body []byte, now time.Time) (id string, err error) {
	k, err := key(secret)
	if err != nil {
		return "", err
	}
	id, stamp := h.Get(ID), h.Get(Timestamp)
	seconds, err := strconv.ParseInt(stamp, 10, 64)
	if id == "" || err != nil || h.Get(Signature) == "" {
		return "", ErrUnsigned
	}
	want := mac(k, id, stamp, body)
	for one := range strings.FieldsSeq(h.Get(Signature)) {
		text, ok := strings.CutPrefix(one, version)
		got, err := base64.StdEncoding.DecodeString(text)
		if !ok || err != nil || !hmac.Equal(got, want) {
			continue
		}
		if now.Sub(time.Unix(seconds, 0)).Abs() > tolerance {
			return "", ErrOld
		}
		return id, nil
	}
	return "", ErrForged
}

// IsSecret reports whether a text is a secret of a webhook.
func IsSecret(text string) bool {
	_, err := key(text)
	return err == nil
}
