package contract

// FormAnswer is what a public form is told about an address.
type FormAnswer struct {
	Answer     string `json:"answer" enum:"usable,typing-error,not-usable,not-known" doc:"usable: nothing speaks against it; typing-error: another domain was probably meant; not-usable: mail to it cannot arrive; not-known: nothing was learnt in time, or is told; asking again later may tell more."`
	Suggestion string `json:"suggestion,omitempty" doc:"The address that was probably meant."`
}
