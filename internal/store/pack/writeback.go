package pack

// WriteBackSpec is what is written back, step by step.
type WriteBackSpec struct {
	Steps []WriteBackStep `json:"steps"`
}

// WriteBackStep is one thing that is done to some contacts.
type WriteBackStep struct {
	Act  string `json:"act"`            // as in connect.Act
	Name string `json:"name,omitempty"` // of the field, tag or collection
	// Refresh: a collection of that name which is there is brought up to date.
	Refresh bool `json:"refresh,omitempty"`
	// Of is what a field is set to: finding, cause or decision; Values are what is written for
	// each, as it is where there is none.
	Of     string            `json:"of,omitempty"`
	Values map[string]string `json:"values,omitempty"`
	// Decisions and Findings are for whom; of each, none is all.
	Decisions []string `json:"decisions,omitempty"`
	Findings  []string `json:"findings,omitempty"`
}
