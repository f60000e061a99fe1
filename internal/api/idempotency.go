package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"varnet/internal/account"
	"varnet/internal/contract"
	"varnet/internal/store"
)

const idempotencyKey = "Idempotency-Key"

// usualBody is how large a body may be unless an operation says otherwise.
const usualBody = 1 << 20

// answerPurpose is what answers are sealed for.
const answerPurpose = "answer"

// longestKey is how long an idempotency key may be.
const longestKey = 255

// idempotent has an operation that makes something do so once for each Idempotency-Key
// that a sender gives: the same request again is answered as the first was. Files are
// imported once by their own way (ImportInput).
func (a *API) idempotent(h huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		key := ctx.Header(idempotencyKey)
		if key == "" || !remembered(ctx.Operation()) {
			next(ctx)
			return
		}
		if len(key) > longestKey {
			_ = huma.WriteErr(h, ctx, http.StatusUnprocessableEntity, fmt.Sprintf("The Idempotency-Key has %d characters; it may have %d. Nothing was done.", len(key), longestKey))
			return
		}
		body, err := io.ReadAll(io.LimitReader(ctx.BodyReader(), max(ctx.Operation().MaxBodyBytes, usualBody)+1))
		if err != nil {
			_ = huma.WriteErr(h, ctx, http.StatusBadRequest, "The request broke off. Nothing was done.")
			return
		}
		u := ctx.URL()
		sum := sha256.Sum256(fmt.Appendf(nil, "%s %s?%s\n%s", ctx.Method(), u.Path, u.RawQuery, body))
		w := workspace(ctx.Context())
		if w.ID == 0 { // answers are kept by workspace
			next(ctx)
			return
		}
		before, ok, err := a.store.BeginAnswer(ctx.Context(), w.ID, key, sum[:])
		switch {
		case err != nil:
			a.log.Error("an idempotency key could not be taken", "err", err)
			_ = huma.WriteErr(h, ctx, http.StatusServiceUnavailable, "The database does not answer. Try again in a moment.")
		case ok:
			a.answer(ctx, next, w.ID, key, body)
		default:
			a.answerAgain(h, ctx, before, sum[:])
		}
	}
}

// remembered reports whether answers of an operation are remembered: of those that make
// something and answer in one piece.
func remembered(op *huma.Operation) bool {
	return op.Method == http.MethodPost && !open(op) && wanted[op.OperationID] != account.Self && op.RequestBody != nil && op.RequestBody.Content["application/json"] != nil && op.Metadata["stream"] != true
}

// answer lets the request pass, and remembers what was answered if it was done.
func (a *API) answer(ctx huma.Context, next func(huma.Context), workspace int64, key string, body []byte) {
	r := &recorder{humaContext: ctx, body: body, status: http.StatusOK}
	next(r)
	// Whatever became of the connection, what was done was done.
	done, cancel := context.WithTimeout(context.WithoutCancel(ctx.Context()), 5*time.Second)
	defer cancel()
	var err error
	if r.status >= http.StatusBadRequest {
		err = a.store.GiveUpAnswer(done, workspace, key)
	} else {
		err = a.store.EndAnswer(done, workspace, key, store.Answer{Status: r.status, Location: r.location, Sealed: a.engine.Secrets.Seal(r.answer.String(), answerPurpose)})
	}
	if err != nil {
		a.log.Error("an answer could not be stored", "err", err)
	}
}

// answerAgain answers as before.
func (a *API) answerAgain(h huma.API, ctx huma.Context, before store.Answer, request []byte) {
	if !bytes.Equal(before.Request, request) {
		ctx.SetHeader("Content-Type", "application/problem+json")
		ctx.SetStatus(contract.KeyReused.Status)
		_ = json.NewEncoder(ctx.BodyWriter()).Encode(ofKind(contract.KeyReused, "This Idempotency-Key was sent before with another request. Nothing was done."))
		return
	}
	if before.Status == 0 {
		_ = huma.WriteErr(h, ctx, http.StatusConflict, "The same request is being answered at this moment, or was broken off. Look whether it was done.")
		return
	}
	text, err := a.engine.Secrets.Open(before.Sealed, answerPurpose)
	if err != nil {
		a.log.Error("a remembered answer cannot be opened; was the secret changed?", "err", err)
		_ = huma.WriteErr(h, ctx, http.StatusConflict, "The request was done before, and its answer cannot be read any more.")
		return
	}
	if before.Location != "" {
		ctx.SetHeader("Location", before.Location)
	}
	ctx.SetHeader("Content-Type", "application/json")
	ctx.SetStatus(before.Status)
	_, _ = io.WriteString(ctx.BodyWriter(), text)
}

// humaContext has another name than its method.
type humaContext = huma.Context

// recorder takes down what is answered, and hands the body out that was read.
type recorder struct {
	humaContext
	body     []byte
	status   int
	location string
	answer   bytes.Buffer
}

func (r *recorder) BodyReader() io.Reader { return bytes.NewReader(r.body) }

func (r *recorder) SetStatus(code int) {
	r.status = code
	r.humaContext.SetStatus(code)
}

func (r *recorder) SetHeader(name, value string) {
	if name == "Location" {
		r.location = value
	}
	r.humaContext.SetHeader(name, value)
}

func (r *recorder) AppendHeader(name, value string) {
	if name == "Location" {
		r.location = value
	}
	r.humaContext.AppendHeader(name, value)
}

func (r *recorder) BodyWriter() io.Writer {
	return io.MultiWriter(&r.answer, r.humaContext.BodyWriter())
}

// describeKeys has the contract tell of the header where it holds.
func describeKeys(api *huma.OpenAPI) {
	least, most := 1, longestKey
	for _, item := range api.Paths {
		for _, op := range operationsOf(item) {
			if remembered(op) {
				op.Parameters = append(op.Parameters, &huma.Param{Name: idempotencyKey, In: "header", Description: "A key made up by the sender: the same request again, within 24 hours, is answered as the first was, and done once.",
					Schema: &huma.Schema{Type: "string", MinLength: &least, MaxLength: &most}})
			}
		}
	}
}
