package reconcile

import (
	"testing"

	"yardbench/internal/core/lifecycle"
)

// Whatever the core may ask for can be done, and has a title on the sheet.
func TestEveryActionIsDone(t *testing.T) {
	for _, a := range lifecycle.Actions {
		if actions[a] == nil {
			t.Errorf("nothing does %s", a)
		}
		if titles[a] == "" && a != lifecycle.RunSetUp { // which is called by its moment
			t.Errorf("%s has no title", a)
		}
	}
	if len(actions) != len(lifecycle.Actions) {
		t.Errorf("%d actions are done, of %d there are", len(actions), len(lifecycle.Actions))
	}
}
