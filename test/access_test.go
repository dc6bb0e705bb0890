package test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"yardbench/wire"
)

// axe looks for what keeps people from a page: those who hear it, who use the keyboard
// alone, who see little of its colours. What it finds of serious weight or more is
// told, each with the first places.
const axe = `(async () => {
	const found = await axe.run(document, { resultTypes: ["violations"], runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "best-practice"] });
	return JSON.stringify(found.violations.filter((v) => v.impact === "serious" || v.impact === "critical")
		.map((v) => ({ rule: v.id, what: v.help, where: v.nodes.slice(0, 3).map((n) => n.target.join(" ") + " " + (n.any[0] ?? n.all[0] ?? n.none[0] ?? {}).message) })));
})()`

// Every page can be used by everybody, in the light and in the dark.
func TestEveryPageForEverybody(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("needs axe-core among the console's packages: " + err.Error())
	}
	w := newWorld(t)
	w.putRules("\nports: {look_links_most: 1 h}\nterminals: {recording: asked}\n")
	w.register("pier", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "exit 3"}`})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "pier", "--name", "pier"), 0)
	w.must(w.as("ingrid", "", "look-link", "add", "quay", "8000"), 0)
	inside := watch(t, w.client("ingrid"), "quay", wire.Run{Columns: 80, Rows: 24})
	inside.until("a shell", func(out, _ string) bool { return out != "" })
	w.must(w.as("ingrid", "", "recording", "begin", "quay"), 0)
	recordings, err := w.client("ingrid").Recordings.List(t.Context())
	if err != nil || len(recordings) != 1 {
		t.Fatalf("%+v, %v", recordings, err)
	}
	scheme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
			_, err := cdp.Call(ctx, x, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}})
			return err
		})
	}
	for who, pages := range map[string][]string{
		"ingrid": {"/mine", "/launch?repository=tide-board", "/workspaces/quay", "/workspaces/quay?view=log", "/workspaces/quay?view=ports", "/workspaces/quay?view=terminal", "/recordings", "/recordings/" + recordings[0].ID, "/secrets", "/you"},
		"astrid": {"/attention", "/fleet", "/repositories?open=tide-board", "/repositories/tide-board/definition?view=values", "/people", "/cost", "/rules", "/journal", "/webhooks", "/operations", "/starters"},
	} {
		p := w.page(t, who)
		for _, light := range []string{"light", "dark"} {
			p.do("in the "+light, scheme(light))
			for _, path := range pages {
				p.do(path, chromedp.Navigate(w.address+path), seen("main, .page, h1"))
				time.Sleep(700 * time.Millisecond) // what flies in is half transparent
				if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[any](string(script)+";0")); err != nil {
					t.Fatal(err)
				}
				text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](axe, chromedp.EvalAwaitPromise))
				var found []struct {
					Rule, What string
					Where      []string
				}
				if err == nil {
					err = json.Unmarshal([]byte(text), &found)
				}
				if err != nil {
					t.Fatalf("%s: %v", path, err)
				}
				for _, f := range found {
					t.Error(fmt.Sprintf("%s in the %s, %s: %s\n\t%s", path, light, f.Rule, f.What, strings.Join(f.Where, "\n\t")))
				}
			}
		}
	}
}
