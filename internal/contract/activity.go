package contract

// ImportedActivity counts the events of a file.
type ImportedActivity struct {
	Events    int64  `json:"events" doc:"Events that were read."`
	Addresses int64  `json:"addresses" doc:"The addresses that they are of; those of a large file may be counted more than once."`
	Later     int64  `json:"later" doc:"Addresses of which it is the latest that is known."`
	NoAddress int64  `json:"noAddress" doc:"Events without an address."`
	NoDay     int64  `json:"noDay" doc:"Events without a day that can be read."`
	Future    int64  `json:"future" doc:"Events in the future, which are left out."`
	Says      string `json:"says" doc:"The same in sentences."`
}

// ListActivity is when something was seen last of the addresses of a list.
type ListActivity struct {
	Addresses int64          `json:"addresses" doc:"All of them."`
	Steps     []ActivityStep `json:"steps" doc:"How many by how long ago, the latest first, those of which nothing was ever seen at the end."`
	Kinds     []ActivityKind `json:"kinds" doc:"What was seen, the most frequent first."`
	Says      string         `json:"says" doc:"The same in a sentence."`
}

// ActivityStep is how many addresses are in a step.
type ActivityStep struct {
	Step      string `json:"step" enum:"30,60,90,180,365,longer,never" doc:"The step: up to this many days."`
	Says      string `json:"says" doc:"The same in words."`
	Addresses int64  `json:"addresses" doc:"How many."`
}

// ActivityKind is how many addresses were seen by something.
type ActivityKind struct {
	Kind      string `json:"kind" doc:"What was seen."`
	Addresses int64  `json:"addresses" doc:"How many."`
}
