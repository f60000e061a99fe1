package store

// ownedTable is a table with records of workspaces.
type ownedTable struct {
	name string
	// of chooses in SQL the records of the workspace $1.
	of string
	// moves: the records go with the workspace to another installation.
	moves bool
	// people: its texts may name addresses of lists, which are taken out of them when they are
	// erased. The texts of the others are the workspace's own, or hold no address.
	people bool
}

const (
	ofWorkspaceID = "workspace_id = $1"
	ofLists       = "list_id IN (SELECT id FROM list WHERE workspace_id = $1)"
	ofRuns        = "run_id IN (SELECT id FROM run WHERE workspace_id = $1)"
	ofMailings    = "mailing_id IN (SELECT id FROM mailing WHERE workspace_id = $1)"
)

// ownedTables are all tables with records of workspaces, those first that others refer to. A test
// holds that there are no others.
var ownedTables = []ownedTable{
	{"policy", ofWorkspaceID, true, true},
	{"catalogue_entry", ofWorkspaceID, true, false},
	{"catalogue_source", ofWorkspaceID, true, false},
	{"catalogue_source_entry", "source_id IN (SELECT id FROM catalogue_source WHERE workspace_id = $1)", true, false},
	{"connection", ofWorkspaceID, true, false},
	{"list", ofWorkspaceID, true, true},
	{"row_block", ofLists, true, false},
	{"list_domain", ofLists, true, false},
	{"list_part", ofLists, true, false},
	{"by_hand", ofLists, true, false},
	{"estimate", ofLists, true, false},
	{"run", ofWorkspaceID, true, true},
	{"batch", ofRuns, true, false},
	{"latest_part", ofRuns, true, false},
	{"latest_fold", ofRuns, true, false},
	{"tally", ofRuns, true, false},
	{"run_domain", ofRuns, true, false},
	{"run_notice", ofRuns, true, true},
	{"run_habit", ofWorkspaceID, true, false},
	{"parcel", ofRuns, true, true},
	{"connection_import", ofWorkspaceID, true, true},
	{"connection_page", "import_id IN (SELECT id FROM connection_import WHERE workspace_id = $1)", false, false},
	{"routine", ofWorkspaceID, true, true},
	{"routine_time", "routine_id IN (SELECT id FROM routine WHERE workspace_id = $1)", true, true},
	{"write_back", ofWorkspaceID, true, true},
	{"write_item", "write_back_id IN (SELECT id FROM write_back WHERE workspace_id = $1)", true, true},
	{"mailing", ofWorkspaceID, true, true},
	{"returned", ofWorkspaceID, true, true},
	{"mailed", ofWorkspaceID, true, true},
	{"trial_letter", ofMailings, true, true},
	{"outcome_mapping", ofWorkspaceID, true, true},
	{"opinion_mapping", ofWorkspaceID, true, true},
	{"odds_model", ofWorkspaceID, true, false},
	{"absence", ofWorkspaceID, false, false},
	{"outcome", ofWorkspaceID, false, true},
	{"activity", ofWorkspaceID, false, false},
	{"observation", ofWorkspaceID, false, false},
	{"trial_sent", ofWorkspaceID, false, false},
	{"trial_sender", ofWorkspaceID, false, false},
	{"bounce_source", ofWorkspaceID, false, false},
	{"workshop_job", ofWorkspaceID, true, true},
	{"step_recipe", ofWorkspaceID, true, true},
	{"term_list", ofWorkspaceID, true, true},
	{"event", ofWorkspaceID, true, true},
	{"webhook", ofWorkspaceID, false, false},
	{"delivery", "webhook_id IN (SELECT id FROM webhook WHERE workspace_id = $1)", false, false},
	{"delivery_attempt", "delivery_id IN (SELECT d.id FROM delivery d JOIN webhook w ON w.id = d.webhook_id WHERE w.workspace_id = $1)", false, true},
	{"erased", ofWorkspaceID, true, false},
	{"request", ofWorkspaceID, true, false},
	{"form_answer", ofWorkspaceID, false, false},
	{"form_visit", "key_id IN (SELECT id FROM key WHERE workspace_id = $1)", false, false},
	{"link", ofWorkspaceID, false, false},
	{"key", ofWorkspaceID, false, false},
	{"upload", ofWorkspaceID, false, false},
	{"upload_part", "upload_id IN (SELECT id FROM upload WHERE workspace_id = $1)", false, false},
	{"idempotency", ofWorkspaceID, false, false},
	{"invitation", ofWorkspaceID, false, false},
	{"member", ofWorkspaceID, false, false},
	{"notices_seen", ofWorkspaceID, false, false},
	{"letter_choice", ofWorkspaceID, false, false},
	{"allowance", ofWorkspaceID, false, false},
	{"lot", ofWorkspaceID, false, false},
	{"reservation", ofWorkspaceID, false, false},
	{"ledger_entry", ofWorkspaceID, false, false},
	{"purchase", ofWorkspaceID, false, false},
	{"invoice", ofWorkspaceID, false, false},
	{"audit", ofWorkspaceID, false, false},
}

// sharedTexts are tables of the installation whose texts may name addresses of lists: the words of
// hosts.
var sharedTexts = []ownedTable{{"operator_route", "$1::bigint IS NOT NULL", false, true}, {"sending_outcome", "$1::bigint IS NOT NULL", false, true}}
