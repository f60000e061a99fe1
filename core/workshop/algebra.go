package workshop

import (
	"math/bits"
)

// known is which tables hold each key: a bit for each.
type known map[key]uint32

// learn reads the keys of tables; skip is a table that is not read, or -1.
func learn(tables []Table, matches []Match, skip int) (known, error) {
	k := known{}
	for i, t := range tables {
		if i == skip {
			continue
		}
		for row, err := range t.Rows() {
			if err != nil {
				return nil, err
			}
			for _, one := range matches[i].keys(row) {
				k[one] |= 1 << i
			}
		}
	}
	return k, nil
}

// Without makes the rows of the first table of which no key stands in the others. Rows that
// have nothing to compare by stay.
func Without(tables []Table, matches []Match, out Out) (Report, error) {
	return among(tables, matches, out, func(found uint32, _ int) bool { return found == 0 })
}

// Both makes the rows of the first table of which a key stands in each of the others.
func Both(tables []Table, matches []Match, out Out) (Report, error) {
	return among(tables, matches, out, func(found uint32, others int) bool { return bits.OnesCount32(found) == others })
}

// among makes the rows of the first table that fit by which of the others hold one of their
// keys.
func among(tables []Table, matches []Match, out Out, fits func(found uint32, others int) bool) (r Report, err error) {
	if err := checkTables(tables, matches, 2); err != nil {
		return r, err
	}
	k, err := learn(tables, matches, 0)
	if err != nil {
		return r, err
	}
	for row, err := range tables[0].Rows() {
		if err != nil {
			return r, err
		}
		found := uint32(0)
		for _, one := range matches[0].keys(row) {
			found |= k[one]
		}
		kept := fits(found, len(tables)-1)
		r.add(0, len(tables), kept)
		if !kept {
			continue
		}
		if err := out(row); err != nil {
			return r, err
		}
	}
	return r, nil
}

// Duplicates makes those rows of a table of which a key stands in another of its rows, too.
func Duplicates(t Table, m Match, out Out) (r Report, err error) {
	if err := checkTables([]Table{t}, []Match{m}, 1); err != nil {
		return r, err
	}
	counts := map[key]bool{} // true: in several rows
	for row, err := range t.Rows() {
		if err != nil {
			return r, err
		}
		for _, k := range m.keys(row) {
			_, there := counts[k]
			counts[k] = there
		}
	}
	return each(t, out, func(row []string) bool {
		for _, k := range m.keys(row) {
			if counts[k] {
				return true
			}
		}
		return false
	})
}

// OnePer makes the first row of a table for each key, as of a domain or household. Rows that
// have nothing to compare by all stay.
func OnePer(t Table, m Match, out Out) (r Report, err error) {
	if err := checkTables([]Table{t}, []Match{m}, 1); err != nil {
		return r, err
	}
	seen := map[key]bool{}
	return each(t, out, func(row []string) bool {
		keys := m.keys(row)
		for _, k := range keys {
			if seen[k] {
				return false
			}
		}
		for _, k := range keys {
			seen[k] = true
		}
		return true
	})
}

// each makes the rows of a table that fit.
func each(t Table, out Out, fits func(row []string) bool) (r Report, err error) {
	for row, err := range t.Rows() {
		if err != nil {
			return r, err
		}
		kept := fits(row)
		r.add(0, 1, kept)
		if !kept {
			continue
		}
		if err := out(row); err != nil {
			return r, err
		}
	}
	return r, nil
}
