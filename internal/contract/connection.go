package contract

import "time"

// ConnectionKind is a kind of place that a connection can lead to.
type ConnectionKind struct {
	Code   string            `json:"code" maxLength:"40" doc:"Its code."`
	Title  string            `json:"title" doc:"What it is called."`
	Says   string            `json:"says" doc:"What it is."`
	Fields []ConnectionField `json:"fields" doc:"What a connection of the kind is set to."`
	Takes  []string          `json:"takes" doc:"What places of the kind can take back: collection, field, tag, suppress, disable, remove, file."`
	Files  bool              `json:"files" doc:"Whether its collections are files."`
}

// ConnectionField is a setting of a connection of some kind.
type ConnectionField struct {
	Name     string   `json:"name" doc:"Its name among the settings."`
	Title    string   `json:"title" doc:"What it is called."`
	Help     string   `json:"help,omitempty" doc:"What to enter."`
	Example  string   `json:"example,omitempty" doc:"What it may look like."`
	Secret   bool     `json:"secret,omitempty" doc:"Whether it is kept sealed, and never returned."`
	Required bool     `json:"required,omitempty" doc:"Whether it must be given."`
	Long     bool     `json:"long,omitempty" doc:"Whether it has several lines."`
	Choices  []string `json:"choices,omitempty" doc:"What it can be; left out where it is any text."`
	Default  string   `json:"default,omitempty" doc:"What it is unless given."`
	Given    bool     `json:"given,omitempty" doc:"Whether the place gives it, and nobody enters it."`
}

// NewConnection is a connection to be made. It is tested as it is saved.
type NewConnection struct {
	Name     string            `json:"name" minLength:"1" maxLength:"100" doc:"Its name."`
	Kind     string            `json:"kind" maxLength:"40" doc:"The code of its kind; GET /connection-kinds names them."`
	Settings map[string]string `json:"settings" doc:"What it is set to, by the names of the kind's fields, secrets among them."`
}

// ConnectionChange changes a connection; what is left out stays.
type ConnectionChange struct {
	Name *string `json:"name,omitempty" minLength:"1" maxLength:"100" doc:"Its name."`
	// Settings replace all of them.
	Settings map[string]string `json:"settings,omitempty" doc:"What it is set to, all of it; a secret that is left out stays what it was, unless it would be sent elsewhere now."`
}

// TryConnection is settings to be tried out, which are not kept.
type TryConnection struct {
	Kind     string            `json:"kind" maxLength:"40" doc:"The code of its kind."`
	Settings map[string]string `json:"settings" doc:"What it would be set to."`
	// ConnectionID is whose secrets stand for those that are left out.
	ConnectionID int64 `json:"connectionId,omitempty" minimum:"0" doc:"A connection whose secrets stand for those that are left out."`
}

// ConnectionTest is what came of trying something out.
type ConnectionTest struct {
	Works bool   `json:"works" doc:"Whether it works."`
	Says  string `json:"says" doc:"What was seen, or why it does not work."`
}

// Connection is a place that contacts live in.
type Connection struct {
	ID       int64             `json:"id" doc:"Names the connection."`
	Name     string            `json:"name" doc:"Its name."`
	Kind     string            `json:"kind" doc:"The code of its kind."`
	Settings map[string]string `json:"settings" doc:"What it is set to, but for its secrets."`
	Secrets  []string          `json:"secrets" doc:"The names of the secrets that are kept."`
	Takes    []string          `json:"takes" doc:"What it takes back."`
	Files    bool              `json:"files,omitempty" doc:"Whether its collections are files."`
	SignIn   bool              `json:"signIn,omitempty" doc:"Whether a person signs in at the place (OAuth), with POST /connections/{id}/sign-in."`
	Works    bool              `json:"works" doc:"Whether it worked when it was last used or tested."`
	Says     string            `json:"says" doc:"What its test said, or why it does not work."`
	TestedAt *time.Time        `json:"testedAt,omitempty" doc:"When it was last tested."`
	MadeAt   time.Time         `json:"madeAt" doc:"When it was made."`
}

// Collection is what a connection offers to import.
type Collection struct {
	ID       string `json:"id" doc:"Names it at the place."`
	Name     string `json:"name" doc:"What it is called there."`
	Kind     string `json:"kind" doc:"What the place calls such a thing: list, group, segment, query, address book, file."`
	Contacts int64  `json:"contacts" doc:"How many contacts it has; -1 where the place does not say."`
	ListID   int64  `json:"listId,omitempty" doc:"The newest list that was imported from it."`
}

// NewImport is an import to be begun.
type NewImport struct {
	Collection string `json:"collection" minLength:"1" maxLength:"1000" doc:"The ID of the collection."`
	Name       string `json:"name,omitempty" maxLength:"200" doc:"The name of the list; that of the collection unless given. A collection that was imported before becomes a newer import of that list."`
}

// Import is a collection on its way in.
type Import struct {
	ID           int64      `json:"id" doc:"Names the import."`
	ConnectionID int64      `json:"connectionId" doc:"The connection."`
	Collection   string     `json:"collection" doc:"The ID of the collection."`
	Name         string     `json:"name" doc:"The name of the collection."`
	State        string     `json:"state" enum:"reading,importing,done,failed" doc:"Where it stands: contacts are read, become a list, are one; or why not."`
	Contacts     int64      `json:"contacts" doc:"Contacts that came so far."`
	Expected     int64      `json:"expected" doc:"Contacts that the place says there are; -1: it does not say."`
	Says         string     `json:"says" doc:"The same in a sentence."`
	ListID       int64      `json:"listId,omitempty" doc:"The list that it became."`
	BegunAt      time.Time  `json:"begunAt" doc:"When it began."`
	EndedAt      *time.Time `json:"endedAt,omitempty" doc:"When it ended; left out while it goes on."`
}

// TryRecipe is a recipe to be tried against an answer.
type TryRecipe struct {
	Recipe string `json:"recipe" maxLength:"200000" doc:"The recipe."`
	Kind   string `json:"kind,omitempty" maxLength:"100" doc:"The kind of collections that the answer is of; the first unless given."`
	Answer string `json:"answer" maxLength:"2000000" doc:"An answer of the platform with contacts, as it came."`
}

// RecipeRead is what a recipe reads in an answer.
type RecipeRead struct {
	Works    bool      `json:"works" doc:"Whether the recipe is right, and reads the answer."`
	Says     string    `json:"says" doc:"What was read, or what is wrong and where."`
	Contacts []Contact `json:"contacts" doc:"The first contacts."`
	Takes    []string  `json:"takes" doc:"What the recipe can write back."`
}

// Contact is a contact as it was read.
type Contact struct {
	Key       string      `json:"key" doc:"Its key at the place."`
	Addresses []string    `json:"addresses" doc:"Its addresses."`
	Fields    []FieldCell `json:"fields" doc:"Its fields."`
}

// FieldCell is a field of a contact.
type FieldCell struct {
	Name  string `json:"name" doc:"The column."`
	Value string `json:"value" doc:"What it holds."`
}

// WriteBackStep is one thing that is done to some contacts.
type WriteBackStep struct {
	Act       string            `json:"act" enum:"collection,field,tag,suppress,disable,remove,file" doc:"What is done: put into a collection, set a field, put a tag on, put on the suppression list, stop delivery, take out of the collection; or write the rows as a file."`
	Name      string            `json:"name,omitempty" maxLength:"200" doc:"The name of the collection, field, tag or file."`
	Refresh   bool              `json:"refresh,omitempty" doc:"A collection of that name which is there is brought up to date: those that are missing come in, others go."`
	Of        string            `json:"of,omitempty" enum:"finding,cause,decision" doc:"What a field is set to."`
	Values    map[string]string `json:"values,omitempty" doc:"What is written for each finding, cause or decision; as it is where there is none, and nothing for an empty text."`
	Decisions []string          `json:"decisions,omitempty" maxItems:"3" doc:"Contacts with these decisions; all unless given."`
	Findings  []string          `json:"findings,omitempty" maxItems:"4" doc:"Contacts with these findings; all unless given."`
}

// WriteBackSpec is what is written back, step by step.
type WriteBackSpec struct {
	Steps []WriteBackStep `json:"steps" minItems:"1" maxItems:"10" doc:"The steps, in their order."`
}

// NewWriteBack is a write-back to be drafted or begun.
type NewWriteBack struct {
	WriteBackSpec
	ConnectionID int64 `json:"connectionId,omitempty" minimum:"0" doc:"Where to; where the list came from unless given. Only files go elsewhere."`
	// Tag is that of the draft that a person has seen.
	Tag string `json:"tag,omitempty" maxLength:"100" doc:"To begin: the tag of the draft; where it would do something else by now, nothing is begun."`
}

// WriteBackDraft is what a write-back would do.
type WriteBackDraft struct {
	Says  []string             `json:"says" doc:"What each step will do, in a sentence."`
	Steps []WriteBackStepDraft `json:"steps" doc:"The same in numbers."`
	Tag   string               `json:"tag" doc:"Names what it would do; it is sent to begin it."`
}

// WriteBackStepDraft is what a step would do.
type WriteBackStepDraft struct {
	Contacts int64           `json:"contacts" doc:"How many contacts it is for."`
	First    []WriteBackItem `json:"first" doc:"The first of them."`
}

// WriteBack is decisions on their way to where the contacts came from.
type WriteBack struct {
	ID           int64            `json:"id" doc:"Names the write-back."`
	RunID        int64            `json:"runId" doc:"The run whose decisions they are."`
	ConnectionID int64            `json:"connectionId" doc:"Where they go."`
	Spec         WriteBackSpec    `json:"spec" doc:"What is written."`
	State        string           `json:"state" enum:"preparing,writing,done,failed,undoing,undone" doc:"Where it stands."`
	Says         string           `json:"says" doc:"The same in sentences."`
	Counts       []WriteBackItems `json:"counts" doc:"Its items by step and state."`
	CanUndo      bool             `json:"canUndo" doc:"Whether there is something that can be undone."`
	By           string           `json:"by,omitempty" doc:"Who began it."`
	BegunAt      time.Time        `json:"begunAt" doc:"When it began."`
	EndedAt      *time.Time       `json:"endedAt,omitempty" doc:"When it ended; left out while it goes on."`
}

// WriteBackItems is how many items of a step are in a state.
type WriteBackItems struct {
	Step  int    `json:"step" doc:"The step, from 0."`
	State string `json:"state" enum:"open,begun,done,skipped,failed,undone,left" doc:"The state."`
	Items int64  `json:"items" doc:"How many."`
}

// WriteBackItem is a contact in the journal of a write-back.
type WriteBackItem struct {
	Step      int      `json:"step" doc:"The step, from 0."`
	Number    int      `json:"number" doc:"The row of the list."`
	Key       string   `json:"key" doc:"The contact's key at the place."`
	Addresses []string `json:"addresses" doc:"Its addresses as they were imported."`
	Value     string   `json:"value" doc:"What it gets; yes where it is put somewhere, nothing where it is taken out."`
	State     string   `json:"state" enum:"open,begun,done,skipped,failed,undone,left" doc:"What became of it: left was written and could not be undone."`
	Had       *string  `json:"had,omitempty" doc:"What it had before; left out where that is not known, or not yet."`
	Why       string   `json:"why,omitempty" doc:"Why it was skipped, not taken or not undone; the words of the place."`
}

// SignInAt is where a person is who goes to sign in at a place.
type SignInAt struct {
	Origin string `json:"origin" maxLength:"300" doc:"The address of the console, such as https://varnet.fernhollow.example: there the place sends the person back, to the page /connections/signed-in."`
}

// SignInPage is where to sign in.
type SignInPage struct {
	URL string `json:"url" doc:"The page of the place."`
}

// SignedIn is what somebody comes back with from a place.
type SignedIn struct {
	State string `json:"state" maxLength:"200" doc:"The state that they went with."`
	Code  string `json:"code,omitempty" maxLength:"4000" doc:"The code of the place; left out where it did not let Varnet in."`
}
