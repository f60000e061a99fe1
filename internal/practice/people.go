package practice

import (
	"encoding/csv"
	"fmt"
	"io"
	"math/rand/v2"
	"strconv"
	"strings"
	"time"
)

// The world's made-up people.
var (
	firstNames = strings.Fields(`Ada Alwin Anselm Beata Birk Briony Caspar Clova Corin Dagny Darrow Delphine Edda Eldon
		Elowen Fenna Finnian Freya Gale Gerda Gideon Hanne Hollis Idony Ingram Isolde Jorun Jory Juniper Kerensa Kester
		Lark Lennox Linnea Maren Merrin Mirabel Nell Njal Oda Orrin Otto Perdita Piran Quill Ragna Rowan Rosalind Sable
		Senna Signe Tamsin Theo Thora Ulla Ulric Vesper Wilf Wren Yarrow Ysolde Zelda Björn Maëlle`)
	lastNames = strings.Fields(`Alderby Ashcombe Barleycroft Beckwith Birchall Bramblewick Clayfield Copperthwaite Cornley
		Dewhurst Dockray Elmsworth Fallowdale Fennimore Furrow Gorsedale Greenhalgh Hartfell Hawkridge Hayward Hedgely
		Holloway Kestrelson Larkham Leafwood Linden Loamsby Marsham Meadowcroft Mossman Nettleton Oakenshaw Orchardson
		Peascod Pippin Ploughwright Quince Reedham Ridgeway Rootham Rushby Ryecroft Saltmarsh Seedham Shawcross Sorrell
		Stonecrop Tansley Thistlewood Thornbury Tilthman Underhill Vetchley Wainwright Wheatley Willowby Winterbourne
		Woodruff Yarrowby`)
	branches = []string{"Fernhollow", "Nether Moss", "Alder Mill", "Upper Loam", "Saltmarsh Quay", "Bramble Hill"}
	crops    = []string{"Broad bean", "Runner bean, scarlet", "Beetroot", "Kale", "Parsnip", "Sweet pea", `Squash "Old Lantern"`,
		"Potato, early", "Leek", "Chard", "Tomato", "Marigold", "Rye"}
	roleLocals  = strings.Fields("info hello office team library post")
	firstLocals = locals(firstNames)
	lastLocals  = locals(lastNames)
)

var unaccented = strings.NewReplacer("ö", "o", "ë", "e")

func locals(names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = unaccented.Replace(strings.ToLower(n))
	}
	return out
}

// Header is the header of a members' list.
var Header = []string{"Member no.", "Name", "E-mail", "Joined", "Branch", "Favourite crop"}

// WriteList writes a members' list of n rows in which the things happen that
// happen to lists: duplicates, blank cells, slips of the keyboard, role
// addresses, dead domains, cells with more in them than an address.
func (w *World) WriteList(out io.Writer, n int) error {
	c := csv.NewWriter(out)
	if err := c.Write(Header); err != nil {
		return err
	}
	l := lister{world: w, rng: rand.New(rand.NewPCG(w.Seed, uint64(n))), total: w.weights()}
	for i := range n {
		if err := c.Write(l.row(i + 1)); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

func (w *World) weights() (sum int) {
	for _, o := range w.Operators {
		sum += o.Weight
	}
	return sum
}

type lister struct {
	world *World
	rng   *rand.Rand
	total int
	past  []string // addresses of a while ago, for duplicates
}

func (l *lister) row(number int) []string {
	first, last := l.rng.IntN(len(firstNames)), l.rng.IntN(len(lastNames))
	joined := time.Date(2009, 3, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, l.rng.IntN(6200))
	return []string{
		fmt.Sprintf("FS-%05d", number), firstNames[first] + " " + lastNames[last], l.cell(first, last, number),
		joined.Format("2006-01-02"), branches[l.rng.IntN(len(branches))], crops[l.rng.IntN(len(crops))],
	}
}

// Local is a local part as the lists have them, another one for each number.
func Local(number int) string {
	last, first := number/len(firstLocals), number%len(firstLocals)
	return fmt.Sprintf("%s.%s%d", firstLocals[first], lastLocals[last%len(lastLocals)], 10+last/len(lastLocals))
}

// cell writes an address the way people do.
func (l *lister) cell(first, last, number int) string {
	r := l.rng.Float64()
	if r < 0.04 && len(l.past) > 0 {
		again := l.past[l.rng.IntN(len(l.past))]
		if r < 0.015 {
			return strings.ToUpper(again[:1]) + again[1:]
		}
		return again
	}
	if r < 0.05 {
		return ""
	}
	local := firstLocals[first] + "." + lastLocals[last]
	if number > 1500 || l.rng.IntN(3) == 0 {
		local += strconv.Itoa(number % 100000)
	}
	if r < 0.08 {
		local = roleLocals[l.rng.IntN(len(roleLocals))]
	}
	o := l.operator()
	if o.character.UTF8 {
		local = strings.Replace(local, "o", "ö", 1)
	}
	a := local + "@" + o.Domains[l.rng.IntN(len(o.Domains))]
	if len(l.past) < 5000 {
		l.past = append(l.past, a)
	}
	switch {
	case r >= 0.08 && r < 0.09:
		return slipOf(a, l.rng)
	case r >= 0.09 && r < 0.10:
		return " " + a + " "
	case r >= 0.10 && r < 0.107:
		return firstNames[first] + " " + lastNames[last] + " <" + a + ">"
	case r >= 0.107 && r < 0.112:
		return strings.Replace(a, "@", "+seeds@", 1)
	}
	return a
}

// slipOf breaks an address the way a keyboard does.
func slipOf(a string, rng *rand.Rand) string {
	switch rng.IntN(4) {
	case 0:
		return strings.Replace(a, "@", "", 1)
	case 1:
		return strings.Replace(a, ".", "..", 1)
	case 2:
		return strings.Replace(a, "@", "@@", 1)
	}
	return a[:strings.LastIndexByte(a, '.')]
}

func (l *lister) operator() *Operator {
	n := l.rng.IntN(l.total)
	for i := range l.world.Operators {
		if o := &l.world.Operators[i]; n < o.Weight {
			return o
		} else {
			n -= o.Weight
		}
	}
	panic("practice: the weights do not add up")
}
