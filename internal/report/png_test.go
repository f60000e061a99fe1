package report_test

import (
	"bytes"
	"image/color"
	"image/png"
	"os"
	"testing"

	"varnet/core/finding"
	"varnet/internal/report"
)

// TestPicture: the picture for letters has the flow's bands as thick as what they stand for.
func TestPicture(t *testing.T) {
	f := report.FlowOf(1000, 0, []report.Cause{
		{Finding: finding.Deliverable, Code: finding.MailboxAccepted, Stage: finding.StageMailbox, Title: "mailbox accepted", Addresses: 500},
		{Finding: finding.CatchAll, Code: finding.MailboxAnyAccepted, Stage: finding.StageMailbox, Title: "any mailbox accepted", Addresses: 250},
		{Finding: finding.Undeliverable, Code: finding.MailboxAbsent, Stage: finding.StageMailbox, Title: "mailbox does not exist", Addresses: 250},
	})
	text, err := f.PNG()
	if err != nil {
		t.Fatal(err)
	}
	if to := os.Getenv("VARNET_PICTURE"); to != "" { // to look at it
		if err := os.WriteFile(to, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	drawn, err := png.Decode(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	if w := drawn.Bounds().Dx(); w != 1120 {
		t.Errorf("it is %d pixels wide", w)
	}
	tall := map[color.RGBA]int{}
	for y := range drawn.Bounds().Dy() / 2 {
		r, g, b, a := drawn.At(4, y).RGBA()
		tall[color.RGBA{uint8(r >> 8), uint8(g >> 8), uint8(b >> 8), uint8(a >> 8)}]++
	}
	deliverable, catchAll, absent := tall[color.RGBA{15, 92, 94, 255}], tall[color.RGBA{217, 164, 65, 255}], tall[color.RGBA{234, 217, 229, 255}]
	if deliverable < 2*catchAll-3 || deliverable > 2*catchAll+3 || absent < catchAll-3 || absent > catchAll+3 || catchAll == 0 {
		t.Errorf("of 500, 250 and 250 the bands are %d, %d and %d pixels thick", deliverable, catchAll, absent)
	}
}
