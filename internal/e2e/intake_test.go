package e2e

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"varnet/internal/client"
	"varnet/internal/contract"
	"varnet/internal/testkit"
)

// TestBringAgain brings files in for a list that is there, and runs it with
// what earlier runs found out.
func TestBringAgain(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	api := client.New(s.URL, s.Key)
	here := mailboxes(i.World, "ada", "upperloam.example")
	const gone = "nobody.here@upperloam.example"
	first := "No;E-mail;Branch\r\n1;" + here[0] + ";Upper Loam\r\n2;\"" + gone + "\";\"Alder; Mill\"\r\n"
	l, r := startNamed(t, api, "members.csv", []byte(first), "mailbox")
	if r, err := api.Wait(t.Context(), r.ID, func(contract.Run) {}); err != nil || r.Done != 2 {
		t.Fatalf("%v: %+v", err, r)
	}
	again := func(of contract.List, mode, rowKey, content string) (contract.List, string) {
		t.Helper()
		made, err := api.Import(t.Context(), client.File{Name: "more.csv", Body: strings.NewReader(content), Again: of.ID, Mode: mode, RowKey: rowKey})
		if err != nil {
			t.Fatal(err)
		}
		return made, content
	}
	appended, _ := again(l, "append", "", "E-MAIL,Phone\n"+here[1]+",+49 30 1\n"+here[0]+",+49 30 2\n")
	for _, c := range []struct {
		list contract.List
		want string
	}{
		{appended, "No;E-mail;Branch;Phone\r\n1;" + here[0] + ";Upper Loam\r\n2;\"" + gone + "\";\"Alder; Mill\"\r\n;" + here[1] + ";;+49 30 1\r\n;" + here[0] + ";;+49 30 2\r\n"},
		{first2(again(l, "update", "", "E-mail;Branch\n"+strings.ToUpper(here[0])+";Saltmarsh\n"+here[2]+";New\n")),
			"No;E-mail;Branch\r\n1;" + strings.ToUpper(here[0]) + ";Saltmarsh\r\n2;\"" + gone + "\";\"Alder; Mill\"\r\n;" + here[2] + ";New\r\n"},
		{first2(again(l, "update", "No", "No;E-mail\n2;"+here[1]+"\n")), "No;E-mail;Branch\r\n1;" + here[0] + ";Upper Loam\r\n2;" + here[1] + ";\"Alder; Mill\"\r\n"},
		{first2(again(l, "replace", "", "mail\n"+here[2]+"\n")), "mail\n" + here[2] + "\n"},
	} {
		r, err := api.StartRun(t.Context(), c.list.ID, contract.NewRun{Depth: "mailbox", Policy: "careful", ReuseDays: 10})
		if err == nil {
			r, err = api.Wait(t.Context(), r.ID, func(contract.Run) {})
		}
		var b bytes.Buffer
		if err == nil {
			err = api.ExportFile(t.Context(), r.ID, contract.ExportChoice{Decision: "all"}, &b)
		}
		if err != nil || b.String() != c.want {
			t.Errorf("%v: got\n%s", err, b.String())
		}
	}
	// Of the appended list two addresses were known, and only the new one was
	// asked about.
	runs, err := newestRuns(t.Context(), api)
	if err != nil {
		t.Fatal(err)
	}
	known := runs[3]
	if known.ListID != appended.ID || known.Reused != 2 || known.Done != 3 || known.Kept != 2 {
		t.Errorf("%+v", known)
	}
	e, err := api.Evidence(t.Context(), known.ID, 2)
	if err != nil || len(e.Asked) == 0 || e.Asked[0].Conversation == nil || e.Operator == "" || !e.At.Before(known.CreatedAt) {
		t.Errorf("the evidence of a result taken over: %v: %+v", err, e)
	}
	lists, err := newestLists(t.Context(), api)
	if err != nil || len(lists) != 4 || lists[3].ID != appended.ID || !strings.Contains(appended.Sentence, "The newer file added 2 rows and changed 0 rows.") {
		t.Errorf("%v: %d lists, %s", err, len(lists), appended.Sentence)
	}
	text, err := testkit.Command(s.Env, "lists", "common", fmt.Sprint(appended.ID), fmt.Sprint(l.ID)).CombinedOutput()
	if err != nil || string(text) != "Of the 3 addresses of “members.csv”, 2 are also in “members.csv”.\n" {
		t.Errorf("%v: %s", err, text)
	}
	_, err = api.Import(t.Context(), client.File{Name: "more.csv", Body: strings.NewReader("Mail\n" + here[0] + "\n"), Again: l.ID})
	if err == nil || !strings.Contains(err.Error(), "The file has no column “E-mail”, which holds the addresses of the list (columns: Mail). Name it so.") {
		t.Errorf("another column: %v", err)
	}
}

func first2(l contract.List, _ string) contract.List { return l }

// TestUpload sends a file part by part over a line that loses every third
// request, and brings it in twice with the same key.
func TestUpload(t *testing.T) {
	t.Parallel()
	i := testkit.World(t, "fernhollow")
	s := testkit.Serve(t, testkit.Settings(testkit.Database(t), i))
	target, err := url.Parse(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	var requests atomic.Int32
	through := &httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.SetURL(target) }}
	line := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if n := requests.Add(1); r.Method == http.MethodPatch && n%3 == 0 {
			_, _ = io.CopyN(io.Discard, r.Body, 1000)
			panic(http.ErrAbortHandler) // the line is lost in the middle of the part
		}
		through.ServeHTTP(w, r)
	}))
	line.Config.ErrorLog = nil
	defer line.Close()
	var b strings.Builder
	b.WriteString("E-mail,Note\n")
	for n := range 90_000 {
		fmt.Fprintf(&b, "member%05d@upperloam.example,%s\n", n, strings.Repeat("seed ", 20))
	}
	file := client.File{Name: "members.csv", Body: strings.NewReader(b.String()), Size: int64(b.Len()), Key: "spring-2026-members"}
	api := client.New(line.URL, s.Key)
	l, err := api.Import(t.Context(), file)
	if err != nil || l.Rows != 90_000 {
		t.Fatalf("%v: %+v", err, l)
	}
	if requests.Load() < 6 {
		t.Errorf("only %d requests: no part was lost", requests.Load())
	}
	file.Body, file.Size = strings.NewReader("E-mail\nada@upperloam.example\n"), 0
	same, err := api.Import(t.Context(), file)
	if err != nil || same.ID != l.ID {
		t.Errorf("sent again it became list %d, and not %d: %v", same.ID, l.ID, err)
	}
}
