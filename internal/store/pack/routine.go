package pack

// RoutineSpec is what a routine does.
type RoutineSpec struct {
	Source         string          `json:"source"`                   // list, folder, url or connection
	ListID         int64           `json:"listId,omitempty"`         // list
	File           string          `json:"file,omitempty"`           // folder: a pattern of names
	URL            string          `json:"url,omitempty"`            // url
	ConnectionID   int64           `json:"connectionId,omitempty"`   // connection
	Collection     string          `json:"collection,omitempty"`     // of it
	CollectionName string          `json:"collectionName,omitempty"` // for sentences
	RecipeID       int64           `json:"recipeId,omitempty"`       // whose steps make the list that is verified
	RecipeName     string          `json:"recipeName,omitempty"`     // for sentences
	Rule           string          `json:"rule,omitempty"`           // RFC 5545; "": not by the calendar
	Time           string          `json:"time,omitempty"`           // 03:00
	Zone           string          `json:"zone,omitempty"`           // of time and hours
	OnChange       bool            `json:"onChange,omitempty"`       // after each change of the source
	Ages           map[string]int  `json:"ages,omitempty"`           // days for which results are taken over, by finding
	Policy         string          `json:"policy"`
	Then           string          `json:"then"`               // nothing, folder, url or connection
	ThenFile       string          `json:"thenFile,omitempty"` // folder: a name with {name}, {date}, {time}
	ThenURL        string          `json:"thenUrl,omitempty"`
	ThenSteps      []WriteBackStep `json:"thenSteps,omitempty"` // connection: what is written back
	Hours          string          `json:"hours,omitempty"`     // within which it verifies
	// MostChecks and MostDropped are beyond which a person decides: addresses asked about, and
	// how many in a hundred of those kept before are dropped now; 0: whatever comes.
	MostChecks  int64  `json:"mostChecks,omitempty"`
	MostDropped int    `json:"mostDropped,omitempty"`
	Tell        string `json:"tell"` // always, changes or problems
}

// RoutineRecord is what a time of a routine came to.
type RoutineRecord struct {
	File         string          `json:"file,omitempty"`     // that was read
	ImportID     int64           `json:"importId,omitempty"` // from a connection
	WriteBackID  int64           `json:"writeBackId,omitempty"`
	Unchanged    bool            `json:"unchanged,omitempty"`
	SourceID     int64           `json:"sourceId,omitempty"` // the list that the source is, where steps made another of it
	Made         string          `json:"made,omitempty"`     // what they made of it, in a sentence
	Rows         int64           `json:"rows"`
	Addresses    int64           `json:"addresses"`
	Added        int64           `json:"added"` // addresses that were not there the time before
	Gone         int64           `json:"gone"`
	Asked        int64           `json:"asked"`
	Reused       int64           `json:"reused"`
	Kept         int64           `json:"kept"` // rows
	KeptBefore   int64           `json:"keptBefore"`
	NewlyDropped int64           `json:"newlyDropped"` // addresses kept the time before
	AgeDays      float64         `json:"ageDays"`      // of the results, on average, when it began
	Changes      []RoutineChange `json:"changes,omitempty"`
	Before       int64           `json:"before,omitempty"` // the run of the time before
	Written      string          `json:"written,omitempty"`
}

// RoutineChange is how many addresses changed from one finding to another.
type RoutineChange struct {
	From      string `json:"from"`
	To        string `json:"to"`
	Addresses int64  `json:"addresses"`
}
