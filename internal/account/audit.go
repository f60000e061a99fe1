package account

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"time"

	"varnet/internal/store"
)

// Entry is what the audit trail says of one act. It holds no address, name or text of a list:
// people, keys and things stand in it by number, addresses by fingerprint.
type Entry struct {
	At        int64  `json:"at"` // microseconds since 1970
	Workspace int64  `json:"workspace,omitempty"`
	Person    int64  `json:"person,omitempty"`
	Key       int64  `json:"key,omitempty"`
	Job       string `json:"job,omitempty"`   // the job that did it, where nobody was there
	From      string `json:"from,omitempty"`  // an address of a network
	Action    string `json:"action"`          // an operation of the contract, or of a job
	Thing     string `json:"thing,omitempty"` // such as "lists/12"
	Address   string `json:"address,omitempty"`
	Result    string `json:"result"` // done, begun, or refused and why
	Detail    string `json:"detail,omitempty"`
}

// The results.
const (
	DoneResult  = "done"
	BegunResult = "begun" // what leaves the service is written down before it does
)

// Fingerprint is an address as the audit trail has it.
func (a *Accounts) Fingerprint(addr string) string {
	at, err := mailbox(addr)
	if err != nil {
		return ""
	}
	return hex.EncodeToString(a.Secrets.Fingerprint(at.Canonical(), "audit")[:8])
}

// Audit writes an entry.
func Audit(ctx context.Context, s *store.Store, e Entry) error {
	e.At = time.Now().UnixMicro()
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	return s.AppendAudit(ctx, string(text))
}

// By fills in who an entry is about.
func (e Entry) By(c Caller, from netip.Addr) Entry {
	e.Workspace, e.Person, e.Key = c.WorkspaceID, c.PersonID, c.KeyID
	e.From = from.String()
	return e
}

// ReadEntry reads an entry as it is kept.
func ReadEntry(k store.AuditEntry) (e Entry, err error) {
	return e, json.Unmarshal([]byte(k.Body), &e)
}

// Verified is what came of holding the audit trail against its hashes.
type Verified struct {
	Entries     int64
	First, Last int64  // their numbers
	Hash        string // of the last, to be noted elsewhere
	Broken      int64  // the first entry that is not as it was written; 0: none
	Why         string
}

// VerifyAudit holds every entry of the audit trail against its hash and the one before it.
func VerifyAudit(ctx context.Context, s *store.Store) (v Verified, err error) {
	var last store.AuditEntry
	err = s.EachAudit(ctx, store.AuditFilter{}, func(e store.AuditEntry) error {
		switch {
		case v.Broken != 0:
		case v.Entries > 0 && e.Seq != last.Seq+1:
			v.Broken, v.Why = e.Seq, fmt.Sprintf("the entry before it has the number %d: some are missing", last.Seq)
		case v.Entries > 0 && !bytes.Equal(e.Before, last.Hash):
			v.Broken, v.Why = e.Seq, "it does not follow on the entry before it: one of the two was changed"
		case !bytes.Equal(e.Hash, store.AuditHash(e.Before, e.Body)):
			v.Broken, v.Why = e.Seq, "it is not what was written: its text does not have its hash"
		}
		if v.Entries++; v.First == 0 {
			v.First = e.Seq
		}
		last = e
		return nil
	})
	v.Last, v.Hash = last.Seq, hex.EncodeToString(last.Hash)
	return v, err
}
