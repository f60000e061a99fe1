package pack

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

func TestLatestPart(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, different := range []int{1, 40, 256, 700} {
		p := NewLatestPart()
		for i := range PartSize {
			if i%7 != 3 {
				p.Verdicts[i], p.Batches[i] = 1+rng.Int32N(int32(different))*99, 1_000_000_000+rng.Int64N(20_000)
			}
		}
		verdicts, batches := p.Pack()
		read, err := ReadLatestPart(verdicts, batches)
		if err != nil || !slices.Equal(read.Verdicts, p.Verdicts) || !slices.Equal(read.Batches, p.Batches) {
			t.Fatalf("%d verdicts are read otherwise than they were packed: %v", different, err)
		}
		if alone, err := ReadLatestPart(verdicts, nil); err != nil || !slices.Equal(alone.Verdicts, p.Verdicts) || alone.Batches != nil {
			t.Errorf("verdicts alone: %v", err)
		}
	}
}

// A part that is damaged is an error, and never a result.
func TestDamagedLatestPart(t *testing.T) {
	p := NewLatestPart()
	p.Verdicts[4], p.Batches[4] = 12, 99
	verdicts, batches := p.Pack()
	other := func(b []byte, at int, to byte) []byte {
		b = slices.Clone(b)
		b[at] = to
		return b
	}
	for name, damaged := range map[string][2][]byte{
		"another version":      {other(verdicts, 0, 9), batches},
		"another of batches":   {verdicts, other(batches, 0, 9)},
		"too short":            {verdicts[:len(verdicts)-1], batches},
		"an unknown verdict":   {other(verdicts, len(verdicts)-1, 7), batches},
		"a result too many":    {other(verdicts, len(verdicts)-1, 1), batches},
		"a batch too many":     {verdicts, append(slices.Clone(batches), 1)},
		"nothing":              {nil, batches},
		"nothing of the batch": {verdicts, {}},
	} {
		if _, err := ReadLatestPart(damaged[0], damaged[1]); err == nil || !strings.Contains(err.Error(), "latest results") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func BenchmarkReadLatestPart(b *testing.B) {
	p := NewLatestPart()
	for i := range PartSize {
		p.Verdicts[i], p.Batches[i] = int32(i%90), int64(5_000+i%17_000)
	}
	verdicts, batches := p.Pack()
	b.ReportMetric(float64(len(verdicts)+len(batches))/PartSize, "bytes/address")
	for b.Loop() {
		if _, err := ReadLatestPart(verdicts, batches); err != nil {
			b.Fatal(err)
		}
	}
}
