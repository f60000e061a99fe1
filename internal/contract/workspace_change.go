package contract

import "time"

// WorkspaceChange says what has changed in the workspace.
type WorkspaceChange struct {
	Kind string `json:"kind" enum:"list,run,routine,event,connection,import,write-back,mailing,everything" doc:"What has changed: a list (its rows, name, overrides, estimate), a run (its state, its results), a routine (what it does, its times), an event that was told, a connection, an import from one, a write-back to one, a mailing, or everything, when some changes were missed."`
	ID   int64  `json:"id,omitempty" doc:"Its number; left out for everything."`
}

// Beat says that a stream is alive.
type Beat struct {
	At time.Time `json:"at" doc:"When it was sent."`
	// QuietMs spares who has just read all that a page shows from reading it again.
	QuietMs int64 `json:"quietMs,omitempty" doc:"Of the first beat: for how many milliseconds nothing is known to have changed in the workspace."`
}
