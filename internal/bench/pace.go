package main

import (
	"container/heap"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"varnet/core/pace"
)

// What workers are, in the simulation as they are in internal/work.
const (
	lanesEach = 200
	slice     = 6 * time.Second
	deadline  = 22 * time.Second
	// handOver is how long it takes from the end of a lane's job to the start of
	// its successor.
	handOver = 200 * time.Millisecond
	// sessionBegins is how long it takes from the connection to the first answer
	// of a session, which asks about up to perSession addresses.
	sessionBegins = 300 * time.Millisecond
	perSession    = 199
	// planned is how many addresses a second come out of the planning.
	planned = 20_000
	// sideBySide is how many small operators of a parcel are asked at once.
	sideBySide = 32
)

// kindOfList is a list as it is found in practice: a few huge operators and a
// long tail.
type kindOfList struct {
	name string
	// huge are the shares of the largest operators; the rest goes to others
	// whose sizes fall by the power steep.
	huge  []float64
	steep float64
	// per is how many addresses there are to an operator, in the mean.
	per int
}

// paceBench runs the pace and order of work against a fake clock, and holds the
// time against the bound that the hosts set: each operator's addresses by its
// own limit of sessions and their speed, and all of them by the lanes of all
// workers.
func paceBench() error {
	kinds := []kindOfList{{"members", []float64{0.28, 0.12, 0.06, 0.04}, 1.1, 40}, {"business", []float64{0.06, 0.05}, 0.9, 8}}
	fmt.Printf("%10s%15s%12s%10s%12s%12s%8s%12s\n", "list", "addresses", "operators", "workers", "bound", "took", "times", "complaints")
	worst, small := 0.0, 0.0
	for _, k := range kinds {
		for _, n := range []int{10_000, 100_000, 1_000_000, 10_000_000, 100_000_000, 1_000_000_000} {
			for _, workers := range workersFor(n) {
				p := k.played(n, workers)
				if n == smallList {
					small = max(small, p.times())
				} else {
					worst = max(worst, p.times())
				}
				fmt.Printf("%10s%15d%12d%10d%12s%12s%8.2f%12d\n", k.name, n, p.operators, workers, said(p.bound), said(p.took), p.times(), p.complaints)
			}
		}
	}
	return judge([]bar{
		{what: "times the bound, 100,000 addresses and more, at the most", figure: worst, bar: 1.15, atMost: true},
		{what: "times the bound, 300 lists of 10,000 addresses together, at the most", figure: small, bar: 1.15, atMost: true},
	})
}

// workersFor are how many workers lists of a size are played with.
func workersFor(addresses int) []int {
	if addresses >= 100_000_000 {
		return []int{64, 500}
	}
	return []int{1, 8, 64}
}

// mostOperators is how many operators there are at most, however long a list is.
const mostOperators = 300_000

// A small list ends with whatever operator happens to be the slowest of the large
// ones: many are played, and the mean of them told.
const (
	smallList  = 10_000
	smallDraws = 300
)

// played is what one list took, or the mean of several.
type played struct {
	bound, took           time.Duration
	operators, complaints int
}

func (p played) times() float64 { return p.took.Seconds() / p.bound.Seconds() }

// played plays lists of a size.
func (k kindOfList) played(n, workers int) (p played) {
	lists := 1
	if n == smallList {
		lists = smallDraws
	}
	for list := range lists {
		s := newSimulation(k, n, workers, uint64(list))
		p.took, p.bound = p.took+s.run()/time.Duration(lists), p.bound+s.bound()/time.Duration(lists)
		p.operators, p.complaints = len(s.operators), p.complaints+s.complaints
	}
	p.complaints /= lists
	return p
}

func said(d time.Duration) string { return d.Round(time.Second).String() }

// operator is one whose hosts are simulated.
type operator struct {
	addresses int
	limit     int     // sessions at a time before it complains
	speed     float64 // addresses a second on each
}

// asking is how long so many addresses take on one lane.
func (o *operator) asking(addresses int) time.Duration {
	sessions := (addresses + perSession - 1) / perSession
	return time.Duration(sessions)*sessionBegins + time.Duration(float64(addresses)/o.speed*float64(time.Second))
}

// lane key as the simulation sees it.
type keyed struct {
	pace.Pace
	operators []*operator // one, or the small ones that share it
	shared    bool
	cap       int
	queue     simQueue
	left      int  // addresses not asked yet
	working   int  // lanes at work
	sessions  int  // those that the host let in
	known     bool // how fast a lane is
	waiting   int  // lanes that wait for a worker
}

type simParcel struct {
	addresses int
	turn      int32
	takes     time.Duration // of shared parcels; others by the operator's speed
}

// simQueue is the parcels of a key: what was put back comes before the rest.
type simQueue struct {
	back, rest []simParcel
	begun      int // of rest, how many were taken
	addresses  int
}

func (q *simQueue) len() int { return len(q.back) + len(q.rest) - q.begun }

func (q *simQueue) add(p simParcel) { q.rest, q.addresses = append(q.rest, p), q.addresses+p.addresses }

// putBack puts so many addresses of a parcel back to be asked next.
func (q *simQueue) putBack(p simParcel, addresses int) {
	q.back, q.addresses = append(q.back, simParcel{addresses: addresses, turn: p.turn}), q.addresses+addresses
}

// next returns the parcel that take takes.
func (q *simQueue) next() simParcel {
	if last := len(q.back) - 1; last >= 0 {
		return q.back[last]
	}
	return q.rest[q.begun]
}

func (q *simQueue) take() simParcel {
	p := q.next()
	if last := len(q.back) - 1; last >= 0 {
		q.back = q.back[:last]
	} else {
		q.begun++
	}
	q.addresses -= p.addresses
	return p
}

type simulation struct {
	now        time.Time
	begun      time.Time
	rng        *rand.Rand
	operators  []*operator
	keys       map[string]*keyed
	lanes      int // of all workers
	busy       int
	events     events
	ready      readyLanes
	seq        int
	complaints int
}

// event is something that happens at a time.
type event struct {
	at  time.Time
	seq int
	do  func()
}

type events []event

func (e events) Len() int { return len(e) }
func (e events) Less(i, j int) bool {
	return e[i].at.Before(e[j].at) || e[i].at.Equal(e[j].at) && e[i].seq < e[j].seq
}
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)   { *e = append(*e, x.(event)) }
func (e *events) Pop() any     { old := *e; x := old[len(old)-1]; *e = old[:len(old)-1]; return x }

// readyLanes are the lanes that wait for a worker, the most urgent first.
type readyLanes []readyLane

type readyLane struct {
	urgency, seq int
	key          *keyed
}

func (r readyLanes) Len() int { return len(r) }
func (r readyLanes) Less(i, j int) bool {
	return r[i].urgency < r[j].urgency || r[i].urgency == r[j].urgency && r[i].seq < r[j].seq
}
func (r readyLanes) Swap(i, j int) { r[i], r[j] = r[j], r[i] }
func (r *readyLanes) Push(x any)   { *r = append(*r, x.(readyLane)) }
func (r *readyLanes) Pop() any     { old := *r; x := old[len(old)-1]; *r = old[:len(old)-1]; return x }

func newSimulation(k kindOfList, n, workers int, list uint64) *simulation {
	s := &simulation{begun: time.Unix(0, 0), rng: rand.New(rand.NewPCG(uint64(n), 7+list)), keys: map[string]*keyed{}, lanes: workers * lanesEach}
	s.now = s.begun
	for _, size := range sizes(k, n) {
		// Most hosts take ten sessions from one source, some fewer than we would
		// open; they answer 5 to 80 addresses a second on each.
		limit := []int{10, 10, 10, 10, 5, 3, 2}[s.rng.IntN(7)]
		s.operators = append(s.operators, &operator{addresses: size, limit: limit, speed: 5 * math.Pow(16, s.rng.Float64())})
	}
	s.plan()
	return s
}

// sizes returns the operators' sizes, the largest first.
func sizes(k kindOfList, n int) (out []int) {
	left := n
	for _, share := range k.huge {
		out = append(out, int(share*float64(n)))
		left -= out[len(out)-1]
	}
	count, weight := max(1, min(n/k.per, mostOperators)), 0.0
	for i := range count {
		weight += 1 / math.Pow(float64(i+3), k.steep)
	}
	for i := 0; i < count && left > 0; i++ {
		size := min(left, 1+int(float64(n)*(1-total(k.huge))/math.Pow(float64(i+3), k.steep)/weight))
		out = append(out, size)
		left -= size
	}
	for i := 0; left > 0; i, left = (i+1)%len(out), left-1 {
		out[i]++
	}
	return out
}

// plan lets the parcels come out of the planning, those of the largest operators
// first.
func (s *simulation) plan() {
	done, batch := 0, int32(0)
	byShared := map[string]*simParcel{}
	for i, op := range s.operators {
		if i == 40 || i > 40 && (i-40)%400 == 0 {
			batch++
		}
		done += op.addresses
		at := s.begun.Add(time.Duration(done) * time.Second / planned)
		if op.addresses >= pace.OwnFrom {
			s.at(at, func() { s.add(fmt.Sprint(i), op, batch) })
			continue
		}
		s.share(byShared, pace.SharedKey(fmt.Sprint(i)), op, at, batch)
	}
	for name, p := range byShared {
		s.at(s.begun.Add(time.Duration(done)*time.Second/planned), func() { s.push(name, *p) })
	}
}

// add cuts an operator's addresses into parcels.
func (s *simulation) add(name string, op *operator, turn int32) {
	k := &keyed{Pace: pace.Start(), operators: []*operator{op}, cap: pace.DefaultCap, left: op.addresses}
	s.keys[name] = k
	for i, n := range pace.Cut(op.addresses, false) {
		k.queue.add(simParcel{addresses: n, turn: turn + int32(i)})
	}
	s.open(k)
}

// share gathers small operators into parcels of the lane that they share.
func (s *simulation) share(open map[string]*simParcel, name string, op *operator, at time.Time, turn int32) {
	if s.keys[name] == nil {
		s.keys[name] = &keyed{Pace: pace.Start(), shared: true, cap: 1}
	}
	k := s.keys[name]
	k.operators, k.left = append(k.operators, op), k.left+op.addresses
	p := open[name]
	if p == nil {
		p = &simParcel{turn: turn}
		open[name] = p
	}
	p.addresses += op.addresses
	p.takes += op.asking(op.addresses) / sideBySide
	if p.addresses >= pace.ParcelSize {
		full := *p
		delete(open, name)
		s.at(at, func() { s.push(name, full) })
	}
}

func (s *simulation) push(name string, p simParcel) {
	k := s.keys[name]
	k.queue.add(p)
	s.open(k)
}

func (s *simulation) at(t time.Time, do func()) {
	s.seq++
	heap.Push(&s.events, event{t, s.seq, do})
}

// open sees to it that a key has its lanes going.
func (s *simulation) open(k *keyed) {
	if k.Resting(s.now) {
		s.at(k.RestUntil, func() { s.open(k) })
		return
	}
	for k.working+k.waiting < min(max(1, k.Lanes), k.cap) && k.working+k.waiting < k.working+k.queue.len() {
		s.enqueue(k)
	}
	s.start()
}

func (s *simulation) enqueue(k *keyed) {
	if k.queue.len() == 0 {
		return
	}
	k.waiting++
	s.seq++
	left := time.Duration(float64(k.left) / k.speed() / float64(max(1, k.Lanes)) * float64(time.Second))
	heap.Push(&s.ready, readyLane{pace.Urgency(k.queue.next().turn, left), s.seq, k})
}

// speed is what one lane gets through in a second.
func (k *keyed) speed() float64 {
	if k.shared {
		return pace.TypicalSpeed * sideBySide / 4
	}
	return k.operators[0].speed
}

// start returns lanes that wait to workers that are free.
func (s *simulation) start() {
	for s.busy < s.lanes && len(s.ready) > 0 {
		k := heap.Pop(&s.ready).(readyLane).key
		k.waiting--
		k.working++
		s.busy++
		s.work(k, s.now.Add(slice))
	}
}

// work takes the lane's next parcel, or ends its job.
func (s *simulation) work(k *keyed, end time.Time) {
	if !s.now.Before(end) || k.queue.len() == 0 || k.Resting(s.now) || k.working > min(max(1, k.Lanes), k.cap) {
		k.working--
		s.busy--
		s.at(s.now.Add(handOver), func() { s.open(k) })
		s.start()
		return
	}
	p := s.claim(k)
	takes := p.takes
	seen := pace.Seen{Sessions: 1}
	refused := false
	if !k.shared {
		op := k.operators[0]
		takes = op.asking(p.addresses)
		if refused = k.sessions >= op.limit; refused { // the host complains of this session at once
			takes, seen = time.Second, pace.Seen{Sessions: 1, Throttled: 1}
			k.queue.putBack(p, p.addresses)
			p.addresses = 0
			s.complaints++
		} else if most := deadline - s.now.Sub(end.Add(-slice)); takes > most { // what is not asked goes back
			asked := int((most - sessionBegins).Seconds() * op.speed)
			k.queue.putBack(p, p.addresses-asked)
			p.addresses, takes = asked, most
		}
	}
	if !refused {
		k.sessions++
	}
	s.at(s.now.Add(takes), func() {
		if !refused {
			k.sessions, k.known = k.sessions-1, true
		}
		k.left -= p.addresses
		before := k.Lanes
		k.Pace = k.After(seen, s.now, pace.Bounds{Cap: k.cap})
		if k.Lanes > before {
			s.open(k)
		}
		s.work(k, end)
	})
}

// claim takes the lane's portion of the key's next parcel, and leaves the rest to
// other lanes.
func (s *simulation) claim(k *keyed) simParcel {
	ready, speed := int64(k.queue.addresses), 0.0
	if k.known {
		speed = k.speed()
	}
	p := k.queue.take()
	if n := pace.Portion(ready, min(k.Lanes, k.cap), speed); !k.shared && p.addresses > n {
		k.queue.putBack(p, p.addresses-n)
		p.addresses = n
		s.open(k)
	}
	return p
}

// run plays until nothing is left.
func (s *simulation) run() time.Duration {
	last := s.begun
	for len(s.events) > 0 {
		e := heap.Pop(&s.events).(event)
		s.now = e.at
		if s.busy > 0 {
			last = s.now
		}
		e.do()
	}
	for _, k := range s.keys {
		if k.left != 0 {
			panic(fmt.Sprintf("%d addresses were never asked about", k.left))
		}
	}
	return last.Sub(s.begun)
}

// bound is the least time that the hosts' limits, and the lanes there are, allow.
func (s *simulation) bound() time.Duration {
	var longest, busy time.Duration
	for _, op := range s.operators {
		takes, lanes := op.asking(op.addresses), min(op.limit, pace.DefaultCap)
		if op.addresses < pace.OwnFrom {
			busy += takes / sideBySide
			lanes = 1
		} else {
			busy += takes
		}
		longest = max(longest, takes/time.Duration(lanes))
	}
	return max(longest, busy/time.Duration(s.lanes))
}

func total(list []float64) (sum float64) {
	for _, x := range list {
		sum += x
	}
	return sum
}
