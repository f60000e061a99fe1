package event_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"varnet/core/event"
)

// whole is what events may carry, all of it.
var whole = event.Data{ListID: 3, List: "Members", RunID: 12, RoutineID: 4, Routine: "Members, daily", WebhookID: 5, Webhook: "https://hooks.fernhollow.example/varnet",
	Key: "Newsletter", File: "members.csv", Route: "direct", Person: "Ada Moss", Role: "member", Device: "Firefox on Linux", Words: "Words.", Until: &time.Time{}}

// TestRegistry holds every entry to what others rely on.
func TestRegistry(t *testing.T) {
	fields := map[string]bool{}
	for _, f := range reflect.VisibleFields(reflect.TypeFor[event.Data]()) {
		fields[strings.ToLower(strings.TrimSuffix(f.Name, "ID"))] = true
	}
	seen := map[event.Code]bool{}
	for _, k := range event.Kinds() {
		thing, what, ok := strings.Cut(string(k.Code), ".")
		if seen[k.Code] || !ok || thing == "" || what == "" {
			t.Errorf("%q is not a code, or there twice", k.Code)
		}
		seen[k.Code] = true
		if k.Title == "" || !strings.HasSuffix(k.Meaning, ".") || k.Act == "" || k.About == "" || k.Severity == "" || k.For == "" || k.Letter == "" {
			t.Errorf("%s: something is missing: %+v", k.Code, k)
		}
		for _, f := range k.Carries {
			if !fields[f] {
				t.Errorf("%s carries %q, which data has not", k.Code, f)
			}
		}
		if s := (event.Event{Code: k.Code, Data: whole}).Subject(); s == "" || strings.ContainsAny(s, "{}?") {
			t.Errorf("%s: the subject is %q", k.Code, s)
		}
		// What the subject names is carried.
		for field := range fields {
			if strings.Contains(k.Subject, "{"+field+"}") && !strings.Contains(strings.Join(k.Carries, " "), field) {
				t.Errorf("%s: the subject names the %s, which is not carried", k.Code, field)
			}
		}
	}
	if _, ok := event.Of("run.vanished"); ok {
		t.Error("a code that there is not is known")
	}
}

func TestThing(t *testing.T) {
	for code, want := range map[event.Code]string{event.RunFinished: "runs/12", event.ImportDone: "lists/3", event.RetentionNear: "lists/3", event.ExportReady: "routines/4",
		event.WebhookOff: "webhooks/5", event.MemberJoined: "team", event.DeviceNew: "person", event.OutboundFailed: "outbound", event.KeyExpiring: "keys"} {
		if got := (event.Event{Code: code, Data: whole}).Thing(); got != want {
			t.Errorf("%s is about %q, not %q", code, got, want)
		}
	}
	if got := (event.Event{Code: event.ImportRefused, Data: event.Data{File: "broken.csv"}}).Thing(); got != "lists" {
		t.Errorf("a file that became no list: %q", got)
	}
}

func TestSubject(t *testing.T) {
	if got := (event.Event{Code: event.RunFinished, Data: whole}).Subject(); got != "The run of “Members” is finished" {
		t.Error(got)
	}
	if got := (event.Event{Code: event.ExportReady, Data: whole}).Subject(); got != "“Members, daily” wrote members.csv" {
		t.Error(got)
	}
}
