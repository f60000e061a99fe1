package contract

// ProblemKind is a kind of problem that the API reports (RFC 9457). Its name is part of
// the contract: programs tell problems apart by it.
type ProblemKind struct {
	Name    string // the end of its type
	Status  int
	Title   string
	Meaning string
	Remedy  string
}

// ProblemBase is what the types of problems begin with: the page that explains them.
const ProblemBase = "/api/v1/problems#"

// Type returns the problem's type, a URI reference.
func (k ProblemKind) Type() string { return ProblemBase + k.Name }

// The kinds that are told apart although they have the status of another.
var (
	FilterNeeded = ProblemKind{"filter-needed", 422, "No filter and not all",
		"The operation acts on all results that match a filter, and no filter was given.", "Give a filter, or set all=true to act on all."}
	Unconfirmed = ProblemKind{"confirm", 403, "Confirm that it is you",
		"The operation changes how the person signs in, or cannot be undone, and they last proved who they are more than 15 minutes ago.", "Prove it at POST /session/confirm, and send the request again."}
	AllowanceShort = ProblemKind{"allowance-short", 409, "Too few checks left",
		"It may take more checks than the workspace has available. Nothing was done.", "The error at the place allowance says how many are missing: buy as many, or take a part of the list."}
	KeyReused = ProblemKind{"idempotency-key-reused", 422, "Idempotency key used for something else",
		"The Idempotency-Key was sent before with another request.", "Make a new key for each thing that is to be made."}
)

var problemKinds = []ProblemKind{
	{"malformed", 400, "Malformed request", "The request cannot be read: a body that is not JSON, or one that broke off.", "Send it again, whole; the detail says where it went wrong."},
	{"not-signed-in", 401, "Not signed in", "There is no key or session, or it is not known.", "Send a key of your workspace as Authorization: Bearer …, or sign in again."},
	{"not-allowed", 403, "Not allowed", "The key or session may not do this, or the request comes from another site.", "Ask an owner of the installation."},
	Unconfirmed,
	{"not-found", 404, "Not found", "There is no such record in your workspace, or no such address.", "Look it up again: it may have been deleted."},
	{"wrong-method", 405, "Wrong method", "The address does not take this method.", "Use one of those that the header Allow names."},
	{"too-slow", 408, "Too slow", "The body came so slowly that it was waited for no longer.", "Send it on a better line, or in parts."},
	{"conflict", 409, "Conflict", "It cannot be done in the state in which things are.", "The detail says what stands against it; read the record again."},
	{"changed", 412, "Changed meanwhile", "The file is another than when its download began.", "Begin the download anew."},
	{"too-large", 413, "Too large", "The body is larger than the operation takes.", "Send less at once; large files go part by part (uploads)."},
	{"wrong-type", 415, "Wrong content type", "The body is of a type that the operation does not read.", "Send application/json, or a file as application/octet-stream."},
	{"wrong-range", 416, "No such range", "The file has no such bytes.", "Begin the download anew."},
	{"wrong-host", 421, "Wrong host", "The service is not reached by the name that the request is for.", "Use one of its names; whoever runs it sets them."},
	{"invalid", 422, "Invalid request", "A name, a value or a combination is not one that the operation takes. Nothing was done.", "The errors name each place with what is wrong there."},
	AllowanceShort,
	FilterNeeded,
	KeyReused,
	{"too-many", 429, "Too many tries", "There were too many attempts.", "Wait as long as Retry-After says."},
	{"given-up", 499, "Given up", "The request was cancelled before it was answered.", "Send it again."},
	{"fault", 500, "A fault of Varnet", "Something went wrong that is not a fault of the request. The service's log says more.", "Try again; tell who runs the service if it stays."},
	{"unavailable", 503, "Not available now", "The database does not answer.", "Try again in a moment."},
	{"no-room", 507, "No room left", "A disk is full, of the database or of the service. Nothing was changed.", "Whoever runs the service makes room; send it again then."},
}

// ProblemKinds returns all kinds of problems, by status.
func ProblemKinds() []ProblemKind { return problemKinds }

// ProblemOf returns the kind of problem that a status stands for; other statuses are of
// the kind of their class.
func ProblemOf(status int) ProblemKind {
	for _, k := range problemKinds {
		if k.Status == status {
			return k
		}
	}
	if status >= 500 {
		return ProblemOf(500)
	}
	return ProblemOf(422)
}
