// The calls of a program that uses a client generated from the contract: SERVER and KEY are
// its arguments. It fails at the first answer that is not as the contract says.
package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"varnet/tools/clients/go/api"
)

const list = "name,e-mail\nAda Moss,ada.moss@fernhollow.example\nNobody,nobody.atall@fernhollow.example\nTwo,ada@@fernhollow.example\n"

func main() {
	if err := calls(context.Background(), os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// need stops at a call that failed or was answered otherwise.
func need[T any](what string, answer *T, response interface{ StatusCode() int }, err error) *T {
	if err != nil || answer == nil {
		fmt.Fprintf(os.Stderr, "%s: %v, status %d\n", what, err, response.StatusCode())
		os.Exit(1)
	}
	fmt.Println("ok", what)
	return answer
}

func calls(ctx context.Context, server, key string) error {
	c, err := api.NewClientWithResponses(server+"/api/v1", api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+key)
		return nil
	}))
	if err != nil {
		return err
	}
	who, err := c.GetSessionWithResponse(ctx)
	need("get-session", who.JSON200, who, err)
	name, once := "generated.csv", "generated-go"
	made, err := c.ImportListWithBodyWithResponse(ctx, &api.ImportListParams{FileName: &name, IdempotencyKey: &once}, "application/octet-stream", strings.NewReader(list))
	l := need("import-list", made.JSON201, made, err)
	again, err := c.ImportListWithBodyWithResponse(ctx, &api.ImportListParams{FileName: &name, IdempotencyKey: &once}, "application/octet-stream", strings.NewReader(list))
	if same := need("import-list, the same once more", again.JSON201, again, err); same.Id != l.Id {
		return fmt.Errorf("imported twice: lists %d and %d", l.Id, same.Id)
	}
	draft, err := c.DraftRunWithResponse(ctx, l.Id, nil, api.DraftRunJSONRequestBody{})
	need("draft-run", draft.JSON200, draft, err)
	started, err := c.StartRunWithResponse(ctx, l.Id, nil, api.StartRunJSONRequestBody{})
	run := need("start-run", started.JSON201, started, err)
	for end := time.Now().Add(time.Minute); run.FinishedAt == nil; time.Sleep(200 * time.Millisecond) {
		if time.Now().After(end) {
			return fmt.Errorf("the run does not end: %s", run.Sentence)
		}
		looked, err := c.GetRunWithResponse(ctx, run.Id)
		run = need("get-run", looked.JSON200, looked, err)
	}
	one := int64(1)
	var found []api.Result
	for cursor := (*string)(nil); ; {
		results, err := c.GetResultsWithResponse(ctx, run.Id, &api.GetResultsParams{Limit: &one, Cursor: cursor})
		page := need("get-results", results.JSON200, results, err)
		if found, cursor = append(found, page.Items...), page.Next; cursor == nil {
			break
		}
	}
	if len(found) != 3 || !slices.ContainsFunc(found, func(r api.Result) bool { return r.Finding == api.ResultFindingUndeliverable }) {
		return fmt.Errorf("%d results: %+v", len(found), found)
	}
	evidence, err := c.GetEvidenceWithResponse(ctx, run.Id, found[0].Ordinal)
	need("get-evidence", evidence.JSON200, evidence, err)
	exported, err := c.ExportRowsWithResponse(ctx, run.Id, nil)
	if err != nil || exported.StatusCode() != http.StatusOK || !strings.HasPrefix(string(exported.Body), "name,e-mail\n") {
		return fmt.Errorf("export-rows: %v, %d, %q", err, exported.StatusCode(), exported.Body)
	}
	checked, err := c.CheckAddressesWithResponse(ctx, nil, api.CheckAddressesJSONRequestBody{Addresses: []string{"ada.moss@fernhollow.example"}})
	need("check-addresses", checked.JSON200, checked, err)
	wrong, err := c.CheckAddressesWithResponse(ctx, nil, api.CheckAddressesJSONRequestBody{Addresses: []string{}})
	need("check-addresses without any", wrong.ApplicationproblemJSON422, wrong, err)
	gone, err := c.DeleteListWithResponse(ctx, l.Id)
	if err != nil || gone.StatusCode() != http.StatusNoContent {
		return fmt.Errorf("delete-list: %v, %d", err, gone.StatusCode())
	}
	missing, err := c.GetListWithResponse(ctx, l.Id)
	need("get-list of none", missing.ApplicationproblemJSON404, missing, err)
	return nil
}
