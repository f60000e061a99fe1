package work

import (
	"time"

	"varnet/core/pace"
	"varnet/core/probe"
	"varnet/internal/store"
)

// after sorts what became of a parcel into results and further parcels.
type after struct {
	parcel    *store.Parcel
	questions map[int32]store.Asking // of the parcel, by address
	now       time.Time
	results   []store.Concluded
	parcels   []store.Parcel
}

func newAfter(p *store.Parcel, now time.Time) *after {
	a := &after{parcel: p, now: now, questions: make(map[int32]store.Asking, len(p.Questions))}
	for _, q := range p.Questions {
		a.questions[q.Ordinal] = q
	}
	return a
}

func (a *after) conclude(rounds pace.Rounds, out probe.Outcome) {
	a.results = make([]store.Concluded, 0, len(out.Results))
	for _, r := range out.Results {
		a.results = append(a.results, a.concluded(r))
	}
	type wait struct {
		rounds  int
		hint    time.Duration
		patient bool
	}
	later := map[wait][]store.Asking{}
	for _, r := range out.Postponed {
		if r.Patient() && r.Rounds <= len(rounds) {
			w := wait{r.Rounds, r.Hint, r.WantsPatience()}
			later[w] = append(later[w], a.asking(r))
		} else {
			a.results = append(a.results, a.concluded(r))
		}
	}
	for w, asking := range later {
		at, _ := rounds.Return(w.rounds, w.hint, a.now)
		key := pace.PlainKey(a.parcel.LaneKey)
		if w.patient {
			key = pace.PatientKey(key)
		}
		a.againAt(key, at, a.parcel.Round+1, asking)
	}
	var unasked []store.Asking
	for _, r := range out.Unasked {
		unasked = append(unasked, a.asking(r))
	}
	a.again(a.now, a.parcel.Round, unasked)
}

func (a *after) again(at time.Time, round int32, asking []store.Asking) {
	a.againAt(a.parcel.LaneKey, at, round, asking)
}

func (a *after) againAt(key string, at time.Time, round int32, asking []store.Asking) {
	if len(asking) > 0 {
		a.parcels = append(a.parcels, store.Parcel{RunID: a.parcel.RunID, LaneKey: key, Turn: a.parcel.Turn, Line: a.parcel.Line,
			Round: round, Questions: asking, NotBefore: at, Again: a.parcel.Again})
	}
}

func (a *after) concluded(r probe.Result) store.Concluded {
	return store.Concluded{Address: int32(r.Ref), Verdict: r.Verdict, Asked: a.stamped(r.Asked), Was: a.questions[int32(r.Ref)].Was}
}

func (a *after) asking(r probe.Result) store.Asking {
	q := a.questions[int32(r.Ref)]
	q.Rounds, q.Asked = r.Rounds, a.stamped(r.Asked)
	return q
}

// stamped fills in the parcel of the answers that this parcel brought.
func (a *after) stamped(asked []probe.Asked) []probe.Asked {
	for i := range asked {
		if asked[i].Parcel == 0 {
			asked[i].Parcel = a.parcel.ID
		}
	}
	return asked
}
