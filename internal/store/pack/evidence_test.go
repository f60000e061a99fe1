package pack

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"varnet/core/probe"
)

func someEvidence() (all [][]probe.Asked) {
	replies := []string{"", "250 ok", "550 5.1.1 no such user here", "450 4.2.0 gréy"}
	at := time.Date(2026, 11, 25, 8, 0, 0, 0, time.UTC)
	for i := range 40 {
		var asked []probe.Asked
		for j := range i % 3 {
			asked = append(asked, probe.Asked{Parcel: int64(j * 3), Conversation: i, At: at.Add(time.Duration(7-i) * time.Millisecond),
				TookMS: float64(i) / 8, Reply: replies[(i+j)%4], Why: "because"})
		}
		all = append(all, asked)
	}
	return all
}

// TestEvidenceComesBack: what is packed comes back as it was.
func TestEvidenceComesBack(t *testing.T) {
	want := someEvidence()
	got, err := ReadEvidence(Evidence(want), len(want))
	if err != nil {
		t.Fatal(err)
	}
	for i := range want {
		if len(want[i])+len(got[i]) > 0 && !reflect.DeepEqual(got[i], want[i]) {
			t.Errorf("address %d: %+v came back as %+v", i, want[i], got[i])
		}
	}
	if none := Evidence(make([][]probe.Asked, 9)); none != nil {
		t.Errorf("no evidence takes %d bytes", len(none))
	}
}

// TestDamagedEvidence: whatever became of it, it is an error or evidence, and
// takes no more memory than it has bytes.
func TestDamagedEvidence(t *testing.T) {
	packed := Evidence(someEvidence())
	for cut := 1; cut < len(packed); cut++ {
		if _, err := ReadEvidence(packed[:cut], 40); err == nil {
			t.Fatalf("%d of %d bytes are taken for whole evidence", cut, len(packed))
		}
	}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		b := append([]byte(nil), packed...)
		for range 1 + rng.IntN(4) {
			b[rng.IntN(len(b))] = byte(rng.Uint32())
		}
		_, _ = ReadEvidence(b, 40)
	}
}
