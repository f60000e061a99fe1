package api

import (
	"encoding/json"
	"fmt"

	"github.com/danielgtaylor/huma/v2"
)

// group is a part of the contract: the operations about one thing.
type group struct {
	name, about string
	operations  map[string]description
}

// description is what the contract says of an operation beyond its summary.
type description struct {
	text    string
	example string // of the body, as JSON; "" where there is none, or a file
}

// describe adds the groups, and to each operation its group, description and example.
func describe(doc *huma.OpenAPI) {
	for _, g := range groups {
		doc.Tags = append(doc.Tags, &huma.Tag{Name: g.name, Description: g.about})
	}
	for _, item := range doc.Paths {
		for _, op := range operationsOf(item) {
			for _, g := range groups {
				if d, ok := g.operations[op.OperationID]; ok {
					op.Tags = []string{g.name}
					d.add(op)
				}
			}
		}
	}
}

func (d description) add(op *huma.Operation) {
	op.Description = d.text
	if d.example == "" {
		return
	}
	var example any
	if err := json.Unmarshal([]byte(d.example), &example); err != nil {
		panic(fmt.Sprintf("the example of %s: %v", op.OperationID, err))
	}
	op.RequestBody.Content["application/json"].Example = example
}

const oneAddress = `{"address": "ada.moss@fernhollow.example"}`

// groups are all operations, in the order of the documentation.
var groups = []group{
	{"Lists", "Files imported as lists: their rows, problem rows, names and for how long they are kept.", map[string]description{
		"get-lists":          {"A page of the lists, each with its last run. They are searched and put in order by the service.", ""},
		"get-list":           {"One list with its last run.", ""},
		"import-list":        {"The body is the file, byte for byte: delimited text, xlsx, ods or JSON lines, also packed. How it is read is guessed and can be overruled. With a key, and without a body, the file that was uploaded under it is taken.", ""},
		"import-newer-file":  {"The rows of the file are put after those of the list, in their place, or over those with the same address or row key. Earlier runs keep the list as it was.", ""},
		"preview-file":       {"The body is the beginning of a file. The answer says how it would be read, with its first rows; nothing is imported.", ""},
		"change-list":        {"What is left out stays as it is.", `{"name": "Members, spring", "keepDays": 365}`},
		"delete-list":        {"The list, its runs, their results and all evidence are deleted at once and cannot be brought back.", ""},
		"count-common":       {"Counts the addresses that are in both lists; get-list-problems with the same parameter names them.", ""},
		"get-list-problems":  {"One line for each row that has no address, none that is one, a repeated one, or one that was cleaned up, with its line in the file.", ""},
		"get-list-rows":      {"A page of rows with their cells, in the order of the file or of a column.", ""},
		"get-estimate":       {"What make-estimate told when it was called last; 404 before.", ""},
		"make-estimate":      {"A few hundred addresses, drawn over all domains, are asked about; the answer tells shares with their bounds. Nothing else is changed.", ""},
		"override-addresses": {"A person's decision about addresses of the list goes before the policy, in all its runs, until it is taken back with the decision “policy”.", `{"mailboxes": ["ada.moss@fernhollow.example"], "decision": "drop"}`},
		"get-retention":      {"For how many days the workspace keeps lists that have no days of their own.", ""},
		"set-retention":      {"Lists are deleted when so many days have passed since they were imported or last run.", `{"days": 90}`},
		"open-upload":        {"Large files are sent in parts under a key of your own; the answer says how much has come. It may be called again at any time.", `{"size": 104857600}`},
		"upload-part":        {"The body is the next part, from the byte that the answer before named.", ""},
	}},
	{"Runs", "Runs verify the addresses of a list: how far they are, what they found in all, and how to steer them.", map[string]description{
		"get-runs":          {"A page of runs, without the pictures of their flow.", ""},
		"get-run":           {"State, counts by cause, decisions, what is waited for and when it is expected to end.", ""},
		"draft-run":         {"Domains are looked up, no mail host is asked. The answer says what a run would reuse, rule out and ask, and how long it would take.", `{"depth": "mailbox", "policy": "careful", "reuseDays": 30}`},
		"start-run":         {"The run begins at once, or at its time and within its hours.", `{"depth": "mailbox", "policy": "careful", "reuseDays": 30, "hours": "22:00-06:00", "zone": "Europe/Berlin"}`},
		"begin-run":         {"A run that waits for its time begins now; one that has begun is a 409.", ""},
		"pause-run":         {"Nobody new is asked until it is resumed.", ""},
		"resume-run":        {"Goes on where it was paused; what is known is not asked again.", ""},
		"stop-run":          {"Ends it for good. Addresses without a result stay open.", ""},
		"ask-again":         {"Another round of the run, about those with causes, findings or ordinals in the body, or that fit the filter in the query; without either, about all that asking again may help. Results stay until others replace them.", `{"causes": ["exchanger.postponed", "exchanger.silent"]}`},
		"watch-run":         {"Server-sent events: the run whenever it changes, at most about three times a second, until it ends.", ""},
		"compare-runs":      {"Addresses that have a result in both runs, by what they were and are.", ""},
		"get-result-ages":   {"Results that were taken over are as old as they were; a mailbox that was there a year ago may not be there any more.", ""},
		"get-run-domains":   {"A page of them: exchangers, operator, addresses, findings, and what is known of how their hosts take mail.", ""},
		"get-run-operators": {"A page of them: whoever runs the exchangers of the domains, with addresses and findings.", ""},
		"get-report":        {"One page for people, as PDF or HTML, with times in a zone.", ""},
	}},
	{"Results", "What a run found of each address, with the evidence; filters over it, and what acts on all that fit.", map[string]description{
		"get-results":       {"A page of results that fit a filter, by their ordinals.", ""},
		"get-evidence":      {"The answers of the DNS, the conversations with the mail hosts, what was made of them, the odds and what they are made of.", ""},
		"find-result":       {"As evidence, for those who know the address and not its ordinal. The address is in the body, so that it is in no log.", oneAddress},
		"count-matching":    {"The count is exact up to 10,000; facets tell how many would fit if one part of the filter had another value.", ""},
		"override-matching": {"The decision goes before the policy. A filter is needed, or all=true.", `{"decision": "drop"}`},
		"describe-filter":   {"For headings: “deliverable, at fernhollow.example”.", ""},
	}},
	{"Export", "The rows of a list by decision, as a file.", map[string]description{
		"preview-export": {"How many rows, in which columns and under which name; the file itself is not made.", ""},
		"export-rows":    {"The rows of one decision, or all, as they were in the file or in another form and format. Of a run that ended, a download that broke off can be continued with Range and If-Range.", ""},
	}},
	{"Policies", "Rules that decide from what was found: keep, hold or drop.", map[string]description{
		"get-policies":  {"Each with its sentences, as people read it, and its rules, as programs do.", ""},
		"get-policy":    {"Its latest version, or an earlier one.", ""},
		"save-policy":   {"Runs keep the version that decided on them until another policy is chosen for them.", `{"name": "spring-mailing", "for": "Deliverable addresses, no role addresses.", "rules": [{"do": "drop", "traits": ["role"]}, {"do": "keep", "findings": ["deliverable"]}], "otherwise": "hold"}`},
		"delete-policy": {"The ready-made ones cannot be deleted.", ""},
		"try-policy":    {"Counts what each rule of the policy would decide on, of this run's rows.", `{"name": "spring-mailing", "rules": [{"do": "keep", "findings": ["deliverable"]}], "otherwise": "hold"}`},
		"choose-policy": {"From now on this policy decides on the run's rows, in its latest version.", `{"name": "spring-mailing"}`},
	}},
	{"Checks", "Single addresses, checked at once.", map[string]description{
		"check-addresses": {"At most 50 addresses, at once. The answer comes when all are concluded.", `{"addresses": ["ada.moss@fernhollow.example", "info@upperloam.example"]}`},
		"check-address":   {"Server-sent events: each stage that the address passes, then the evidence.", oneAddress},
	}},
	{"Catalogues", "Names known as role addresses, disposable or free-mail domains, spam traps: your own, beside the shipped ones.", map[string]description{
		"get-catalogue":         {"A page of your own entries; the shipped catalogues count beside them.", ""},
		"get-shipped-catalogue": {"A page of names, with whether each counts in your workspace: an exception of your own lets it not count.", ""},
		"add-to-catalogue":      {"An entry that is an exception lets a shipped name not count.", `{"entries": [{"kind": "disposable", "name": "tenminutes.example"}]}`},
		"try-catalogue":         {"Says which lists have addresses that the entries fit, and how many.", `{"entries": [{"kind": "role", "name": "seedbank", "except": false}]}`},
		"delete-from-catalogue": {"The shipped catalogue counts again.", ""},
		"get-catalogue-sources": {"When each was read last, how many entries it has and what its last change was.", ""},
		"follow-catalogue":      {"The list at an https URL, or a file of the service's catalogue folder, is read now and every day; its entries count as your own.", `{"kind": "disposable", "url": "https://lists.seedlibrary.example/disposable.txt"}`},
		"read-catalogue-source": {"Reads it now, not only at its time.", ""},
		"unfollow-catalogue":    {"Its entries are removed.", ""},
	}},
	{"Outbound", "How mail hosts are reached: resolvers, routes, identities, blocklists, rules and pace.", map[string]description{
		"get-outbound":    {"All parts with what their last test found, the rules, the pace, and who refused us lately.", ""},
		"get-readiness":   {"Ready, ready with reservations, or not ready, with the one thing to do next.", ""},
		"test-outbound":   {"Every resolver, route, identity and blocklist is tried; it takes some seconds.", ""},
		"add-parts":       {"One part a line. Secrets in the lines are sealed and never shown again.", `{"kind": "route", "lines": "socks5://proxy.fernhollow.example:1080"}`},
		"remove-part":     {"A part of the settings cannot be removed here.", ""},
		"remove-failed":   {"Of a kind, those whose last test failed.", ""},
		"set-outbound":    {"The most sessions at a time with one operator by one route.", `{"cap": 4}`},
		"set-rules":       {"The first rule that fits counts.", `{"rules": [{"of": "domain", "pattern": "*.nethermoss.example", "depth": "never", "note": "they list whoever asks"}]}`},
		"get-own-rules":   {"They hold beside those of the installation; of two that fit, the one that asks less far counts.", ""},
		"set-own-rules":   {"A rule says how far: never, syntax or domain. They count for what is planned or checked from then on.", `{"rules": [{"of": "domain", "pattern": "*.nethermoss.example", "depth": "never", "note": "members who asked us not to"}]}`},
		"try-rules":       {"Nobody is asked.", oneAddress},
		"get-operators":   {"Sessions at a time and pauses, as they were learnt from the operators' answers.", ""},
		"forget-operator": {"It is asked again as one that is not known.", ""},
	}},
	{"Signing in", "How persons sign up and in: by password, code, passkey or the installation's sign-in provider, with a second factor. Programs send a key instead. Each step answers with what comes next.", map[string]description{
		"get-ways-in":            {"For the page for signing in.", ""},
		"sign-in":                {"Answers with a cookie, or with what comes next. Which of address and password is wrong is not told.", `{"address": "ada.moss@fernhollow.example", "password": "quince and medlar"}`},
		"send-sign-in-code":      {"The answer is the same whether there is an account at the address.", oneAddress},
		"enter-code":             {"A code is good for 10 minutes, five tries and one use.", `{"ticket": "…", "code": "402 918"}`},
		"enter-second-factor":    {"Each code of the authenticator app counts once (RFC 6238).", `{"ticket": "…", "code": "402918"}`},
		"send-forgotten-code":    {"The answer is the same whether there is an account at the address.", oneAddress},
		"reset-password":         {"At least 10 characters, none of the passwords that are used most, and not like name or address.", `{"ticket": "…", "password": "quince and medlar"}`},
		"ask-passkey":            {"Options for navigator.credentials.get (WebAuthn).", ""},
		"sign-in-by-passkey":     {"A passkey counts as two factors.", `{"ticket": "…", "credential": {}}`},
		"go-to-provider":         {"The code flow of OpenID Connect with PKCE.", ""},
		"come-from-provider":     {"The provider sends people here.", ""},
		"sign-in-to-demo":        {"Works only on the machine of a demo.", ""},
		"sign-up":                {"Where anybody may. The answer is the same whether there is an account at the address; the letter tells.", `{"name": "Ada Moss", "address": "ada.moss@fernhollow.example", "password": "quince and medlar"}`},
		"begin-installation":     {"The link is shown when the service starts for the first time, and by varnet person link.", `{"link": "…", "name": "Ada Moss", "address": "ada.moss@fernhollow.example", "password": "quince and medlar"}`},
		"look-at-invitation":     {"For the page of the invitation.", `{"invitation": "…"}`},
		"join-by-invitation":     {"For those who have no account. The letter has proved the address, so there is no code.", `{"invitation": "…", "name": "Bea Quill", "password": "damson and sloe"}`},
		"decline-invitation":     {"It is gone then.", `{"invitation": "…"}`},
		"ask-in":                 {"The device shows the code and asks with the secret whether it is in.", ""},
		"await-device":           {"The token is given once.", `{"secret": "…"}`},
		"end-guide":              {"They also end with the first export of the workspace.", ""},
		"get-session":            {"A person with their workspaces, or the program of a key.", ""},
		"sign-out":               {"Ends the session that the request came with.", ""},
		"confirm":                {"By password, a code of the second factor, the code of a letter, or a passkey. It holds for 15 minutes.", `{"password": "quince and medlar"}`},
		"send-confirmation-code": {"For those who have no password.", ""},
	}},
	{"Account", "Your own account: name, address, password, second factor, passkeys, sessions.", map[string]description{
		"get-person":           {"With passkeys and sessions.", ""},
		"rename-person":        {"As others see it.", `{"name": "Ada Moss"}`},
		"set-password":         {"Wants a fresh confirmation. A letter tells of it.", `{"password": "quince and medlar"}`},
		"move-address":         {"Wants a fresh confirmation.", oneAddress},
		"confirm-address":      {"Letters to both addresses tell of it.", `{"ticket": "…", "code": "402 918"}`},
		"draft-second-factor":  {"The secret, and as a QR code. Wants a fresh confirmation.", ""},
		"set-second-factor":    {"The answer holds recovery codes, this once.", `{"ticket": "…", "code": "402918"}`},
		"remove-second-factor": {"Wants a fresh confirmation.", ""},
		"make-recovery-codes":  {"The earlier ones are not good any more. Wants a fresh confirmation.", ""},
		"draft-passkey":        {"Options for navigator.credentials.create (WebAuthn). Wants a fresh confirmation.", ""},
		"add-passkey":          {"A letter tells of it.", `{"ticket": "…", "name": "Ada's telephone", "credential": {}}`},
		"remove-passkey":       {"Wants a fresh confirmation.", ""},
		"sign-out-everywhere":  {"Browsers and command lines alike.", ""},
		"end-session":          {"It opens nothing from then on.", ""},
		"look-at-device":       {"Look at what you let in before you do.", `{"code": "BCDF-GHJK"}`},
		"answer-device":        {"Letting in wants a fresh confirmation.", `{"code": "BCDF-GHJK", "letIn": true}`},
	}},
	{"Team", "The workspace's people: members and their roles, invitations; your workspaces.", map[string]description{
		"get-team":             {"Everybody in it sees who else is.", ""},
		"change-team":          {"Whoever lacks a second factor that is demanded can do nothing in it until they have one.", `{"name": "Fernhollow Seed Library", "secondFactor": true, "readersExport": false}`},
		"change-role":          {"There is always at least one owner.", `{"role": "member"}`},
		"remove-member":        {"What they made stays, and so do keys, which are the team's.", ""},
		"invite":               {"A letter with a link that is good for 7 days. The answer holds the link, too.", `{"address": "bea.quill@fernhollow.example", "role": "reader"}`},
		"take-invitation-back": {"Its link opens nothing any more.", ""},
		"hand-over":            {"Wants a fresh confirmation.", `{"personId": 2}`},
		"leave-team":           {"The last owner cannot leave.", ""},
		"keep-workspace":       {"The members are told.", ""},
		"export-workspace":     {"Its lists and their results as files for people, and every record for another installation, where whoever looks after it reads it in: varnet team import.", ""},
		"delete-workspace":     {"In 7 days, for good; the members are told, and until then everything works and an owner can stop it. Wants its name, and a fresh confirmation.", `{"name": "Fernhollow Seed Library"}`},
		"accept-invitation":    {"For those who are signed in, with the address that was invited.", `{"invitation": "…"}`},
		"enter-workspace":      {"The session works there from then on.", `{"workspaceId": 2}`},
		"make-workspace":       {"You are its owner.", `{"name": "Fernhollow Seed Library"}`},
		"get-audit":            {"Who did what, on what, when and from where. People, keys and things stand in it by number, addresses by fingerprint.", ""},
		"export-audit":         {"One entry a line.", ""},
	}},
	{"Forms", "What a public form asks while its visitor types. The key is in the page for everybody to see: it has the scope form alone, holds for pages of its origins, and limits how often a visitor may ask.", map[string]description{
		"check-form": {"Answers within 1.5 seconds, with no evidence, and goes on afterwards, so that the next look is better. Of a mailbox at a host that takes mail for any, or that is undecided, nothing is told. Who asks about many addresses is slowed down.", `{"address": "maya.okafor@wilowpost.example"}`},
	}},
	{"Requests", "What persons ask for about their own address: all that is held, as a file; that it is erased, and not kept again.", map[string]description{
		"look-at-address":   {"Its rows in all lists, earlier versions and archived ones included, results with what hosts said, mailings, what is remembered apart from lists, and where else it is named. All spellings that its operator takes for the same mailbox are one address.", `{"address": "maya.okafor@willowpost.example"}`},
		"write-rights-file": {"Without what is of other people. That it was written is recorded, without the address.", `{"address": "maya.okafor@willowpost.example", "format": "text"}`},
		"make-request":      {"Erasing makes its rows blank, deletes its results and evidence and takes it out of everything else; from then on it is neither kept nor asked about when it comes again, which a fingerprint tells that is keyed by a secret of the workspace. It cannot be undone. What is in hand at the moment is erased when that has let go of it.", `{"address": "maya.okafor@willowpost.example", "kind": "erase"}`},
		"get-requests":      {"None holds an address; its mark is the same in all requests about it.", ""},
		"get-request":       {"Says what an erasure waits for.", ""},
	}},
	{"Installation", "What holds for all workspaces, for those who look after the installation.", map[string]description{
		"get-installation":       {"Who may sign up, how, retention, and the usage of all workspaces; nothing of what is in them.", ""},
		"change-installation":    {"All settings at once.", `{"signUp": "invitation", "auditDays": 400, "maxKeepDays": 0, "provider": {"name": "", "issuer": "", "client": ""}, "limits": {"requestsMinute": 6000, "checksMinute": 600, "imports": 4, "exports": 6, "streams": 200, "uploads": 20, "uploadMb": 20000, "lists": 10000}}`},
		"limit-workspace":        {"Imports that would go beyond it are refused.", `{"maxRows": 1000000}`},
		"get-installation-audit": {"Sign-ins, and changes of the installation.", ""},
		"verify-audit":           {"Reads the whole trail.", ""},
	}},
	{"Events", "What happened that somebody may want to know of: as notices, letters and signed calls of webhooks.", map[string]description{
		"get-event-kinds":      {"The registry: what each kind means, whom it is for and what it carries.", ""},
		"get-events":           {"For programs that follow along: begin with after=0 or the number of the newest event, and go on from the last one you have. The change stream tells when there are more.", ""},
		"get-notices":          {"The newest event of each kind about each thing, with how many there are like it.", ""},
		"read-notices":         {"One with those like it, or all up to a number.", `{"upto": 481}`},
		"get-letter-wishes":    {"What holds for you in this workspace, whether you chose it or not.", ""},
		"set-letter-wishes":    {"The choices are for this workspace; zone, hour and report for all of yours.", `{"zone": "Europe/Berlin", "dailyHour": 7, "withReport": true, "choices": [{"code": "run.finished", "choice": "at once"}]}`},
		"get-webhooks":         {"Without their secrets.", ""},
		"make-webhook":         {"The answer holds the secret, this once. Calls are signed by it in the Standard Webhooks form: a receiver verifies webhook-signature over webhook-id, webhook-timestamp and the body.", `{"url": "https://hooks.fernhollow.example/varnet", "codes": ["run.finished", "routine.held"]}`},
		"change-webhook":       {"What is left out stays. Switched on again, it is told what waited.", `{"on": false}`},
		"delete-webhook":       {"With its log. What was not delivered is not any more.", ""},
		"renew-webhook-secret": {"The answer holds the new secret, this once. For a day calls are signed by both.", ""},
		"test-webhook":         {"It is called with an event of its own; the log tells what came of it.", ""},
		"get-deliveries":       {"The newest first.", ""},
		"get-delivery":         {"With what was sent and answered at each attempt.", ""},
		"resend-delivery":      {"It is called again with the same event, whether it took it or not.", ""},
	}},
	{"Routines", "Standing orders: read a source by the calendar or when it changes, verify what is new or stale, write the kept rows.", map[string]description{
		"get-routines":        {"Each with its newest time.", ""},
		"get-routine":         {"What it does, when it is due next, and its newest time.", ""},
		"make-routine":        {"It is due by its rule, after each change of its source, or both.", `{"name": "Members, every night", "source": "folder", "file": "members*.csv", "rule": "FREQ=DAILY", "time": "03:00", "zone": "Europe/Berlin", "ages": {"deliverable": 30, "undeliverable": 90}, "policy": "careful", "then": "folder", "thenFile": "kept/{name}-{date}", "mostDropped": 5, "tell": "changes"}`},
		"draft-routine":       {"The same as sentences, with the first times at which it would be due.", `{"source": "url", "url": "https://files.fernhollow.example/members.csv", "rule": "FREQ=MONTHLY;BYDAY=1MO", "time": "03:00", "policy": "careful", "then": "nothing", "tell": "always"}`},
		"change-routine":      {"What is left out stays. While it is paused nothing is due; what it missed meanwhile is not caught up.", `{"paused": true}`},
		"delete-routine":      {"A time that is at work ends where it stands.", ""},
		"run-routine":         {"Besides its usual times; 409 while one is at work. A dry one says what would come and be asked.", `{"dry": true}`},
		"get-routine-times":   {"What came, was new and gone, asked and reused, who changed, what was written.", ""},
		"decide-routine-time": {"A time is held that met one of its limits.", `{"goOn": true}`},
	}},
	{"Connections", "Places that contacts live in: import their collections, and write decisions back.", map[string]description{
		"get-connection-kinds": {"What a connection of each is set to, and what it can take back.", ""},
		"get-connections":      {"Of their secrets only which there are.", ""},
		"get-connection":       {"Of its secrets only which there are.", ""},
		"make-connection":      {"It is saved whether its test works or not; the answer says what was seen.", `{"name": "Members' database", "kind": "database", "settings": {"engine": "PostgreSQL", "host": "db.fernhollow.example", "database": "members", "user": "varnet", "password": "…", "queries": "-- Members\nSELECT id, email, name FROM members", "key": "id", "addresses": "email"}}`},
		"try-connection":       {"For a form, before it is saved.", `{"kind": "mailing-lists", "settings": {"address": "https://lists.fernhollow.example/3.1", "user": "restadmin", "password": "…"}}`},
		"change-connection":    {"What is left out stays, secrets among the settings too.", `{"name": "Members' database"}`},
		"delete-connection":    {"Nothing is changed at the place.", ""},
		"test-connection":      {"The answer says what was seen, or why it does not work.", ""},
		"get-collections":      {"The place is asked; 409 with its words where it does not answer.", ""},
		"go-to-place":          {"The code flow of OAuth 2.0 with PKCE (RFC 7636). The place sends the person back to the console, which goes on with POST /connections/signed-in.", `{"origin": "https://varnet.fernhollow.example"}`},
		"come-from-place":      {"A state is good once, for the one who went with it, within 15 minutes.", `{"state": "…", "code": "…"}`},
		"begin-import":         {"Contacts become a list: the key and the fields are columns. One that was imported before becomes a newer import of that list.", `{"collection": "group/12"}`},
		"get-imports":          {"The newest first.", ""},
		"get-import":           {"How far it has come, and the list when it is one.", ""},
		"try-recipe":           {"The recipe is held against its form, and reads the contacts of the answer; no platform is asked.", `{"recipe": "{\"recipe\": 1}", "answer": "{\"contacts\": []}"}`},
		"draft-write-back":     {"A sentence for each step, with its first contacts, and the tag with which it can be begun.", `{"steps": [{"act": "field", "name": "mail state", "of": "finding"}, {"act": "collection", "name": "Spring, deliverable", "decisions": ["keep"]}]}`},
		"begin-write-back":     {"It goes on as a job. Contacts whose address was changed since the import, and those that are gone, are skipped.", `{"steps": [{"act": "suppress", "decisions": ["drop"]}], "tag": "5f0c"}`},
		"get-write-backs":      {"The newest first.", ""},
		"get-write-back":       {"How far it has come, counted by step and state.", ""},
		"get-write-back-items": {"Each contact with what it gets, what it had before, and why it was skipped or refused.", ""},
		"make-link":            {"For a sending tool that fetches its file itself. The answer holds the path, this once: whoever has it needs no key.", `{"decision": "keep", "days": 7}`},
		"get-links":            {"With how often each was followed.", ""},
		"delete-link":          {"It opens nothing from then on.", ""},
		"follow-link":          {"404 when it has expired or was deleted. The file is made as it is fetched, by the decisions that hold then.", ""},
		"undo-write-back":      {"Contacts get back what they had, where they still have what was written; a collection that was made is deleted.", ""},
	}},
	{"Mailings", "Letters that were really sent, and what came back: bounces, complaints, silence.", map[string]description{
		"register-mailing":       {"It is written down to whom it went, and bounces are waited for. Once the watch is over, what did not come back has the outcome “no bounce”, and addresses of catch-all domains are settled by it.", `{"name": "Spring letter", "runId": 12, "sentAt": "2026-03-17T07:30:00Z", "watchHours": 72}`},
		"import-mailing":         {"A row a letter: the address, and where the table has them the tag of its return address and its Message-ID, by which a bounce is known whatever address it names.", ""},
		"get-mailings":           {"Each with how many of its letters came to which outcome.", ""},
		"get-mailing":            {"With what had been found of the addresses, so that anybody can check what findings are worth.", ""},
		"get-mailing-letters":    {"Each with its outcome and the words of the host.", ""},
		"export-mailing":         {"For a sending tool that takes a return address (MAIL FROM) for each letter: bounces are known by it, whatever address they name. The return addresses are empty where the installation takes none.", ""},
		"send-mailing":           {"The watch begins.", ""},
		"delete-mailing":         {"What is known of its addresses stays: an address that bounced is not mailed again.", ""},
		"import-bounces":         {"Every message is imported once, however often it is sent. It is credited to letters by the tag of the return address, by Message-ID, or by the address; where none of them tells, to nobody.", ""},
		"import-outcomes":        {"The words of the host decide before the tool does: a full mailbox is not gone. Columns and meanings that are given are kept for the next table with the same columns.", ""},
		"get-bounce-sources":     {"Mailboxes that are read every five minutes, and programs that call.", ""},
		"make-bounce-source":     {"Without a mailbox, a program calls: its secret is shown this once. Messages that were read are marked as seen unless you say otherwise; nothing is deleted unless told.", `{"name": "Returns", "mailbox": {"host": "imap.fernhollow.example", "port": 993, "security": "tls", "username": "returns@fernhollow.example", "password": "beech-hollow-lantern", "then": "move", "thenFolder": "Read"}}`},
		"change-bounce-source":   {"Another folder is read from its beginning; what came before is known, and changes nothing.", `{"name": "Returns", "mailbox": {"host": "imap.fernhollow.example", "port": 993, "security": "tls", "username": "returns@fernhollow.example", "then": "flag"}}`},
		"delete-bounce-source":   {"What came by it stays.", ""},
		"read-bounce-source":     {"As it is done every five minutes.", ""},
		"call-bounce-source":     {"For programs, signed by the secret of the source in the form of Standard Webhooks; a call that is sent again changes nothing. The names of the objects are read as the columns of a table are.", ""},
		"get-trial-sender":       {"Whether letters can be sent, and if not, why and what to do.", ""},
		"set-trial-sender":       {"Without a key, Varnet makes one and says which record is to be published. The sender is to be tested then.", `{"host": "smtp.fernhollow.example", "port": 465, "security": "tls", "username": "letters", "password": "beech-hollow-lantern", "sender": "Fernhollow Seed Library <letters@fernhollow.example>", "servers": ["192.0.2.25"], "selector": "varnet"}`},
		"test-trial-sender":      {"SPF for every server, the DKIM key, whether one of them is aligned with the sender that people see, and whether bounces can arrive.", ""},
		"allow-trial-letters":    {"They are off unless the workspace's owner turns them on.", `{"allowed": true}`},
		"preview-trial-letter":   {"422 with what keeps it from being an honest letter.", `{"subject": "Your seeds for the spring", "body": "Dear gardener, the broad beans of last year did well, and we would like to send you some this spring.", "who": "Fernhollow Seed Library, Mill Lane 4", "why": "You gave us your address at the seed fair."}`},
		"forecast-trial-letters": {"Nothing is sent. Each address gets one trial letter, ever.", ""},
		"order-trial-letters":    {"Only a person orders them. The letters leave at the pace of the operators they go to and within the daily limit; then bounces are waited for, and what does not come back is settled.", `{"name": "Spring seeds", "subject": "Your seeds for the spring", "body": "Dear gardener, the broad beans of last year did well, and we would like to send you some this spring.", "who": "Fernhollow Seed Library, Mill Lane 4", "why": "You gave us your address at the seed fair.", "reason": "Members agreed to letters when they joined.", "confirmed": true}`},
		"stop-trial-letters":     {"Those that have left are watched as before.", ""},
		"get-bounces":            {"With why a message is about no letter, where it is about none.", ""},
		"get-outcomes":           {"Each share has its whole: the letters to addresses of that finding.", ""},
		"forget-outcome":         {"For a bounce that was a mistake. Later runs ask about the address again; results that are there stay.", ""},
	}},
	{"Workshop", "Lists made from lists: merged, without others, sliced, struck, tidied; steps and terms that are saved; what lists are like before any address is verified.", map[string]description{
		"begin-workshop-job":  {"Small lists are made before the answer comes; of large ones the answer says how far they are, and get-workshop-job goes on. The lists it is made of stay as they are; the new one says of what it was made. 422 names the step, what is wrong and the remedy.", `{"listId": 12, "steps": [{"do": "without", "with": ["7"], "by": "address"}], "name": "Members without the unsubscribed", "dryRun": true}`},
		"get-workshop-jobs":   {"The newest first, without dry runs.", ""},
		"get-workshop-job":    {"Rows read so far; once it is done what came of each step, and the first rows.", ""},
		"end-workshop-job":    {"A job that has ended stays as it is.", ""},
		"make-workshop-file":  {"The rows are written as they are made. Those that still stand as in their file keep its bytes, as long as no step changes cells or columns.", `{"listId": 12, "steps": [{"do": "slice", "conditions": [{"column": "Town", "test": "is", "values": ["Nether Moss", "Upper Loam"]}]}]}`},
		"get-step-recipes":    {"By name, each with its steps in words.", ""},
		"save-step-recipe":    {"Steps that are there under this name are replaced. A routine that applies them does so by the new ones from its next time on.", `{"name": "Monthly clean-up", "steps": [{"do": "without", "with": ["7"]}, {"do": "tidy", "changes": [{"do": "trim", "columns": ["Town"]}]}]}`},
		"delete-step-recipe":  {"Lists that were made by them stay.", ""},
		"get-term-lists":      {"By name, with the first ten terms of each.", ""},
		"save-term-list":      {"Terms that are there under this name are replaced.", `{"name": "Competitors", "terms": ["seedbarn.example", "plotshop.example"]}`},
		"delete-term-list":    {"Steps and policies that name it fail or fit nothing until there is one of its name again.", ""},
		"get-list-domains":    {"The largest domains and operators, free-mail, disposable and likely typing errors, and countries by the domains' suffixes. Nobody is asked.", ""},
		"get-list-columns":    {"Of each column: empty cells, different values and the commonest, the shortest and longest, the span of dates.", ""},
		"get-column-meanings": {"As somebody said, or else as the names of the columns tell.", ""},
		"set-column-meanings": {"Names make the odds of catch-all addresses better: those of the last run are stated anew. Days of activity and what other checks found are read from their columns.", `{"meanings": [{"column": "First name", "holds": "first-name"}, {"column": "Last name", "holds": "last-name"}, {"column": "Last order", "holds": "activity", "of": "ordered"}]}`},
		"get-list-known":      {"By finding and age, of the freshest result of each address in whichever list.", ""},
	}},
	{"Odds, activity, second opinions", "How likely a message to a catch-all address arrives, learnt from the outcomes of mailings; when something was seen of addresses last; what another check found.", map[string]description{
		"get-odds":            {"The odds that were stated before messages were sent, held against what became of them, by tenths of the scale; what counts, and what changed each time that it was learnt.", ""},
		"import-activity":     {"Of each address the latest event is kept, without the address. A table in which the tool of yours says who opened, clicked, signed in or ordered, and when.", ""},
		"get-list-activity":   {"By steps of 30, 60, 90, 180 and 365 days. Nothing is guessed: what was never seen is told as such.", ""},
		"get-opinions":        {"A matrix for each column that holds what another check found, its words with their meanings, and how often each was right of the addresses that a message was sent to.", ""},
		"get-opinion-rows":    {"Those of a cell of the matrix, or those on which both are apart.", ""},
		"set-opinion-meaning": {"It counts for each list with a column of this check.", `{"means": {"valid": "deliverable", "accept all": "catch-all", "invalid": "undeliverable", "spam trap": ""}}`},
		"share-outcomes":      {"Other workspaces of the installation learn of a domain from at least 20 addresses of 3 workspaces on, in steps of five, and nothing of any address. A workspace that gives nothing takes nothing.", `{"shares": false}`},
	}},
	{"Service", "Keys, letters, workers, the service's health, and what changes.", map[string]description{
		"get-keys":             {"What each is for, what it may do and when it was used last; the keys themselves are not kept.", ""},
		"make-key":             {"The answer holds the key, this once. A key has no scope that you have not.", `{"name": "office laptop", "scopes": ["read", "check"], "expiresDays": 365, "networks": ["192.0.2.0/24"]}`},
		"rotate-key":           {"The answer holds the new key, this once; the old one ends after the overlap. A key with a scope that you have not is not yours to rotate.", `{"overlapHours": 24}`},
		"delete-key":           {"It opens nothing from then on.", ""},
		"get-letter-settings":  {"By which submission server, from whom, and where links lead. The password is never shown.", ""},
		"set-letter-server":    {"Letters are handed to it (RFC 6409): codes for signing in, invitations, news.", `{"host": "smtp.fernhollow.example", "port": 587, "security": "starttls", "username": "varnet", "password": "…", "sender": "Varnet <varnet@fernhollow.example>", "baseUrl": "https://varnet.fernhollow.example"}`},
		"remove-letter-server": {"Nothing that needs letters works from then on.", ""},
		"test-letter-server":   {"Sends a letter that says it is a trial; the answer holds what the submission server said.", `{"to": "ada.moss@fernhollow.example"}`},
		"get-workers":          {"Processes that gave a sign of life in the last minute.", ""},
		"drain-worker":         {"It finishes the parcels it has in hand and ends.", ""},
		"get-health":           {"For people; programs ask /healthz and /readyz, and /metrics at a listener of its own.", ""},
		"watch-workspace":      {"Server-sent events: which list or run has changed. After a break, and when some were missed, “everything”. A beat at the beginning, from which on nothing is missed, and every 15 seconds without news.", ""},
		"get-glossary":         {"For programs that show results: titles, meanings and advice.", ""},
	}},
	{"Allowance", "How many checks a workspace may still use, what they were used for, and how more are bought. Where no allowance is kept, nothing of it shows.", map[string]description{
		"get-allowance":      {"What is available and set aside, until when it lasts at the pace of the last 30 days, and how more comes.", ""},
		"set-allowance":      {"A refill and a subscription want a stored way to pay. A subscription begins with a first month at once; when it ends, what was bought stays. A person does this, no key.", `{"low": 1000, "subscription": 0, "refill": {"under": 1000, "buy": 10000, "most": 2}, "buyer": {"name": "Fernhollow Seed Library", "lines": ["3 Mill Lane"], "country": "GB"}}`},
		"forget-method":      {"With it go the refill and the subscription, which cannot be paid any more.", ""},
		"get-usage":          {"By day, run, routine, connection, key or person. Days are those of the time zone of the request.", ""},
		"get-usage-file":     {"A table with a header.", ""},
		"get-statement":      {"What was held at the beginning of the month, what came and went, and what was held at its end. What was set aside and given back changes nothing.", ""},
		"get-statement-file": {"For the books.", ""},
		"get-price":          {"Each step of the prices is paid at its own price, so that more checks never cost less than fewer.", `{"checks": 142853}`},
		"get-purchases":      {"Also those that were refused or paid back.", ""},
		"buy-checks":         {"The answer names the page of the payment provider on which it is paid. A person does this, no key.", `{"checks": 142853, "remember": true}`},
		"get-purchase":       {"Its state changes by the calls of the payment provider.", ""},
		"get-invoice":        {"It is there once the purchase is paid; the credit note, once it is paid back.", ""},
		"call-payment":       {"For the payment provider, signed by its secret in the form of Standard Webhooks; a call that is sent again changes nothing.", ""},
		"get-accounts":       {"Each workspace with its plan and what it used lately.", ""},
		"set-account-plan":   {"The first grant of the plan comes at once, the next each month. With no plan the workspace may check as much as it likes; its book stays.", `{"planId": 1}`},
		"grant-checks":       {"They may expire. Below 0, checks that are available are taken away; never more than there are.", `{"checks": 5000, "note": "for the seed fair"}`},
		"get-plans":          {"What they grant, cost and allow.", ""},
		"make-plan":          {"Prices are in the smallest unit of the currency.", plainPlan},
		"change-plan":        {"It holds for what begins from now on; what is set aside keeps the costs that it began with.", plainPlan},
		"delete-plan":        {"Workspaces that have it are given another one first.", ""},
		"get-billing":        {"Without provider and seller nothing can be bought.", ""},
		"set-billing":        {"The secret is sealed and never shown.", `{"provider": "https://pay.example", "secret": "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw2YjCPHBzfUk=", "seller": {"name": "Bramble and Rook", "lines": ["1 Quay Street"], "country": "GB"}, "taxes": [{"country": "GB", "name": "VAT", "rate": 2000}], "defaultPlanId": 0}`},
		"get-all-purchases":  {"Of all workspaces.", ""},
		"pay-back-purchase":  {"The provider is asked to, and tells by a call when it is done.", ""},
		"verify-ledger":      {"The sum of all entries is 0, every lot has what its entries leave, and every reservation is closed or has something at work.", ""},
	}},
}

const plainPlan = `{"name": "Clubs", "grant": 500, "keep": 1, "syntaxCost": 0, "domainCost": 0, "mailboxCost": 1, "urgent": 2, "estimatesADay": 20, "day": 0, "personDay": 0, "keyDay": 0, "currency": "EUR", "steps": [{"upTo": 10000, "perThousand": 400}, {"upTo": 0, "perThousand": 300}], "subscriptionOff": 10}`
