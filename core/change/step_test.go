package change_test

import (
	"encoding/json"
	"testing"

	"isonomos/core/change"
)

// Drafts and journals that were written before actions had their names of now are read.
func TestActionsOfOldNames(t *testing.T) {
	var steps []struct{ Do change.Action }
	text := `[{"do":"dress"},{"do":"surround"},{"do":"attach"},{"do":"create-group"},{"do":"no such"}]`
	if err := json.Unmarshal([]byte(text), &steps); err != nil {
		t.Fatal(err)
	}
	want := []change.Action{change.Attach, change.AttachToSubnet, change.Attach, change.CreateGroup, "no such"}
	for k, s := range steps {
		if s.Do != want[k] {
			t.Errorf("%d is %q, want %q", k, s.Do, want[k])
		}
	}
}
