package api

import (
	"testing"
	"time"

	"varnet/core/policy"
	"varnet/internal/store"
)

// TestOldest holds that results taken over from earlier runs count for rules
// that look at the age of results.
func TestOldest(t *testing.T) {
	now := time.Now()
	young := store.Run{CreatedAt: now.Add(-time.Hour), ReuseDays: 60}
	if !policy.Strict().ByVerdict(oldest(young, now)) {
		t.Error("a run that took nothing over is an hour old at most")
	}
	young.Plan.Reused = 1
	if policy.Strict().ByVerdict(oldest(young, now)) {
		t.Error("a result that was taken over may be older than the policy allows")
	}
}
