package practice

import "fmt"

// Generate makes a world in which every character takes part, with as many
// people at each: the world that findings are measured on. One plain operator
// serves hundreds of domains, as providers do.
func Generate(seed uint64) (*World, error) {
	w := &World{Name: fmt.Sprintf("every character, seed %d", seed), Seed: seed, GreylistMS: 1200}
	for i, c := range Characters() {
		o := Operator{Name: c.Name + ".example", Character: c.Name, Weight: 10, Real: 0.80}
		if c.AnyAccepted {
			o.Real = 0.50 // half of a catch-all host's addresses bounce, as in life
		}
		domains := 1 + i%3
		if c.Name == "vanity" {
			domains = 60
		}
		for n := range domains {
			o.Domains = append(o.Domains, fmt.Sprintf("%s-%d.example", c.Name, n+1))
		}
		w.Operators = append(w.Operators, o)
	}
	provider := Operator{Name: "provider.example", Character: "plain", Weight: 60, Real: 0.8}
	for n := range 300 {
		provider.Domains = append(provider.Domains, fmt.Sprintf("shop-%03d.example", n+1))
	}
	w.Operators = append(w.Operators, provider)
	return w, w.prepare()
}

// Everywhere returns the world with the character of every working host changed
// to the one named: a world in which all hosts block us, or all are slow.
func (w *World) Everywhere(character string) (*World, error) {
	out := &World{Name: w.Name + ", " + character + " everywhere", Seed: w.Seed, GreylistMS: w.GreylistMS}
	for _, o := range w.Operators {
		if o.character.Zone == nil {
			o.Character = character
		}
		out.Operators = append(out.Operators, o)
	}
	return out, out.prepare()
}
