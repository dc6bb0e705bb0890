package serve

import (
	"encoding/json"
	"log/slog"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yardbench/internal/core/lifecycle"
	"yardbench/internal/core/rules"
	"yardbench/internal/store"
	"yardbench/internal/store/blank"
)

// What is logged of a workspace by its id says what people know it by; of one that
// no record knows, or with the records shut, the line stands all the same.
func TestLog(t *testing.T) {
	st := blank.Open(t, filepath.Join(t.TempDir(), "a.db"), time.Now)
	if err := st.Write(t.Context(), func(tx *store.Tx) error {
		if _, err := tx.AddRules(t.Context(), store.RulesVersion{Document: rules.First}); err != nil {
			return err
		}
		if err := tx.AddPerson(t.Context(), store.Person{ID: "p", Name: "ingrid", Role: "developer"}); err != nil {
			return err
		}
		if err := tx.AddRepository(t.Context(), store.Repository{ID: "r", Name: "tide-board"}); err != nil {
			return err
		}
		return tx.AddWorkspace(t.Context(), &store.Workspace{ID: "w", OwnerID: "p", Name: "quay", RepositoryID: "r", Phase: lifecycle.Ready, Wanted: lifecycle.WantReady, StewardToken: []byte{1}, PortKey: "k"})
	}); err != nil {
		t.Fatal(err)
	}
	var out strings.Builder
	before := slog.Default()
	defer slog.SetDefault(before)
	log := Log(&out, true, slog.LevelInfo)
	end := named(log, st)
	slog.Warn("workspace failed", "workspace", "w", "cause", "none")
	slog.With("door", "x").Info("of one that is not known", "workspace", "other")
	slog.Debug("too little")
	if err := st.Close(); err != nil {
		t.Fatal(err)
	}
	slog.Error("after the end", "workspace", "w")
	end()
	var lines []map[string]string
	for line := range strings.Lines(out.String()) {
		said := map[string]string{}
		if err := json.Unmarshal([]byte(line), &said); err != nil {
			t.Fatal(err)
		}
		if _, err := time.Parse(time.RFC3339Nano, said["time"]); err != nil {
			t.Errorf("the time has no zone: %v", err)
		}
		lines = append(lines, said)
	}
	if len(lines) != 3 || lines[0]["name"] != "quay" || lines[0]["owner"] != "ingrid" || lines[0]["repository"] != "tide-board" || lines[0]["level"] != "WARN" || lines[1]["name"] != "" || lines[1]["door"] != "x" || lines[2]["msg"] != "after the end" {
		t.Errorf("it logs\n%s", out.String())
	}
}
