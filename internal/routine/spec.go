package routine

import (
	"cmp"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"varnet/core/finding"
	"varnet/core/problem"
	"varnet/core/rule"
	"varnet/core/say"
	"varnet/core/schedule"
	"varnet/internal/store"
	"varnet/internal/store/pack"
	"varnet/internal/writeback"
)

// mostAge is for how many days a result may be taken over.
const mostAge = 730

// Check reports what of a routine cannot be. made is when it was made.
func (p Places) Check(s pack.RoutineSpec, made time.Time) error {
	return cmp.Or(p.checkSource(s), checkTimes(s, made), checkAges(s), p.checkThen(s))
}

func (p Places) checkSource(s pack.RoutineSpec) error {
	switch s.Source {
	case FromList:
		if s.ListID == 0 {
			return problem.In("listId", "name the list whose newest import is verified")
		}
	case FromFolder:
		return p.checkFile("file", s.File, "a file or a pattern of names, such as members/*.csv")
	case FromURL:
		return p.checkAddress("url", s.URL)
	case FromConnection:
		switch {
		case s.ConnectionID == 0 || s.Collection == "":
			return problem.In("collection", "name the connection, and the collection of it that is read")
		case s.OnChange:
			return problem.In("onChange", "a connection does not tell when it has changed; it is read by a rule")
		}
	default:
		return problem.In("source", "a routine reads a list, a folder, a URL or a connection, not %q", s.Source)
	}
	return nil
}

// checkFile holds a name below the folder for routines.
func (p Places) checkFile(field, name, what string) error {
	if p.Folder == "" {
		return problem.In(field, "this installation has no folder for routines; its operator sets one with -routine-folder")
	}
	_, err := path.Match(name, "")
	if name == "" || len(name) > 300 || !fs.ValidPath(name) || err != nil || strings.ContainsAny(name, "\\\x00\r\n") {
		return problem.In(field, "%q is not %s within the workspace's folder", name, what)
	}
	return nil
}

func (p Places) checkAddress(field, address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil || len(address) > 2000 {
		return problem.In(field, "%q is not an address such as https://files.fernhollow.example/members.csv, without a name or password", address)
	}
	if u.Scheme != "https" && !(u.Scheme == "http" && p.AllowPrivate) {
		return problem.In(field, "%q does not begin with https://", address)
	}
	return nil
}

// ScheduleOf returns the schedule of a routine; ok is false where it does not go by the calendar.
func ScheduleOf(s pack.RoutineSpec, made time.Time) (_ schedule.Schedule, ok bool) {
	return schedule.Schedule{Rule: s.Rule, Time: s.Time, Zone: s.Zone, From: made}, s.Rule != ""
}

// SetDue settles when a routine is due next, and when its source is looked at for a change.
func SetDue(r *store.Routine, now time.Time) error {
	r.NextAt, r.LookAt = nil, nil
	made := r.CreatedAt
	if made.IsZero() {
		made = now
	}
	if when, ok := ScheduleOf(r.Spec, made); ok {
		next, err := when.Next(now)
		if err != nil {
			return err
		}
		r.NextAt = Optional(next)
	}
	if r.Spec.OnChange {
		at := time.Now()
		r.LookAt = &at
	}
	return nil
}

// Optional is nil for the zero time.
func Optional(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// Respecify has a routine do something else. Where its source is another, what was read is
// forgotten.
func Respecify(r *store.Routine, s pack.RoutineSpec) {
	if s.Source != r.Spec.Source || s.ListID != r.Spec.ListID || s.File != r.Spec.File || s.URL != r.Spec.URL || s.ConnectionID != r.Spec.ConnectionID || s.Collection != r.Spec.Collection {
		r.Tag, r.ListID = "", nil
	}
	r.Spec = s
}

func checkTimes(s pack.RoutineSpec, made time.Time) error {
	if when, ok := ScheduleOf(s, made); ok {
		if err := when.Check(); err != nil {
			return problem.In("rule", "%s", err)
		}
	} else if !s.OnChange {
		return problem.In("rule", "set when it is due: by a rule, after each change of its source, or both")
	}
	if _, err := (rule.Hours{Hours: s.Hours, Zone: s.Zone}).Opens(made); err != nil {
		return problem.In("hours", "%s", err)
	}
	if s.MostDropped < 0 || s.MostDropped > 100 {
		return problem.In("mostDropped", "it is a share in a hundred, 0 to 100")
	}
	return nil
}

func checkAges(s pack.RoutineSpec) error {
	for f, days := range s.Ages {
		if !slices.Contains(finding.Findings(), finding.Finding(f)) || finding.Finding(f) == finding.Undecided {
			return problem.In("ages", "%q is not deliverable, catch-all or undeliverable; what is undecided is asked about each time", f)
		}
		if days < 0 || days > mostAge {
			return problem.In("ages", "results are taken over for 0 to %d days, not %d", mostAge, days)
		}
	}
	return nil
}

func (p Places) checkThen(s pack.RoutineSpec) error {
	switch s.Then {
	case ToNothing:
		return nil
	case ToFolder:
		if strings.ContainsAny(s.ThenFile, "*?[") {
			return problem.In("thenFile", "a name has no *, ? or [")
		}
		return p.checkFile("thenFile", s.ThenFile, "a name such as kept/{name}-{date}")
	case ToURL:
		return p.checkAddress("thenUrl", s.ThenURL)
	}
	if s.Then == ToConnection && s.RecipeID > 0 {
		return problem.In("then", "what steps make of a collection cannot be written back to it; have it written to a folder or URL")
	}
	if s.Then == ToConnection {
		if s.Source != FromConnection {
			return problem.In("then", "the result goes back to the connection that the routine reads, and it reads none")
		}
		return nil
	}
	return problem.In("then", "the result goes to a folder, a URL or nowhere, not %q", s.Then)
}

// Says returns what a routine does, in sentences. of is what its list or connection is called.
func Says(s pack.RoutineSpec, made time.Time, of string) []string {
	from := map[string]string{FromList: "the newest import of “" + of + "”", FromFolder: "the newest file called like " + s.File, FromURL: s.URL, FromConnection: "“" + cmp.Or(s.CollectionName, s.Collection) + "” of “" + of + "”"}[s.Source]
	var due []string
	if when, ok := ScheduleOf(s, made); ok {
		due = append(due, when.Says())
	}
	if s.OnChange {
		due = append(due, "after each change of its source")
	}
	if s.RecipeID > 0 {
		from += ", and follows the recipe “" + s.RecipeName + "”"
	}
	out := []string{upper(say.And(due...)) + ": reads " + from + ".", "Asks about new addresses" + agesSay(s) + ", and about undecided ones each time; decides by the policy " + s.Policy + "."}
	switch s.Then {
	case ToFolder:
		out = append(out, "Writes the kept rows to "+s.ThenFile+".")
	case ToConnection:
		out = append(out, "Writes back: "+writeback.Summary(s.ThenSteps)+".")
	case ToURL:
		out = append(out, "Sends the kept rows to "+s.ThenURL+".")
	}
	if limits := limitsSay(s); limits != "" {
		out = append(out, limits)
	}
	return out
}

func agesSay(s pack.RoutineSpec) string {
	var parts []string
	for _, f := range finding.Findings() {
		if days := s.Ages[string(f)]; days > 0 {
			parts = append(parts, fmt.Sprintf("%s ones after %s", f, say.Plural(int64(days), "day", "days")))
		}
	}
	if len(parts) == 0 {
		return " and all others"
	}
	return ", " + say.And(parts...)
}

func limitsSay(s pack.RoutineSpec) string {
	var parts []string
	if s.MostChecks > 0 {
		parts = append(parts, fmt.Sprintf("more than %s would be asked about", say.Addresses(s.MostChecks)))
	}
	if s.MostDropped > 0 {
		parts = append(parts, fmt.Sprintf("more than %d %% of the addresses kept the time before would be dropped", s.MostDropped))
	}
	out := ""
	if len(parts) > 0 {
		out = "A person decides when " + strings.Join(parts, ", or ") + "."
	}
	if s.Hours != "" {
		out = strings.TrimSpace(out + " Verifies between " + strings.Replace(s.Hours, "-", " and ", 1) + " alone.")
	}
	return out
}

func upper(text string) string {
	if text == "" {
		return ""
	}
	return strings.ToUpper(text[:1]) + text[1:]
}
