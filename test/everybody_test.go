package test

import (
	"context"
	"encoding/json"
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
// told, each with the first places. Before that a page comes to rest: what still flies in
// is half transparent.
const axe = `(async (only) => {
	const busy = () => document.querySelector(".ant-spin-spinning, [aria-busy=true], .wait") || document.getAnimations().some((a) => a.playState === "running" && a.effect.getComputedTiming().iterations !== Infinity);
	for (let calm = 0, n = 0; calm < 4 && n < 100; n++) {
		await new Promise((r) => setTimeout(r, 60));
		calm = busy() ? 0 : calm + 1;
	}
	await new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r)));
	const found = await axe.run(document, { resultTypes: ["violations"], runOnly: only ?? ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"] });
	return JSON.stringify(found.violations.filter((v) => v.impact === "serious" || v.impact === "critical")
		.map((v) => ({ rule: v.id, what: v.help, where: v.nodes.slice(0, 3).map((n) => n.target.join(" ") + " " + (n.any[0] ?? n.all[0] ?? n.none[0] ?? {}).message) })));
})`

// colours is what may be another in the dark.
const colours = `({ type: "rule", values: ["color-contrast", "link-in-text-block"] })`

// Every page can be used by everybody, in the light and in the dark.
func TestEveryPageForEverybody(t *testing.T) {
	t.Parallel()
	script, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("needs axe-core among the console's packages: " + err.Error())
	}
	w := newWorld(t)
	w.putRules("\nports: {look_links_most: 1 h}\nterminals: {recording: asked}\nwebhooks_inside: [127.0.0.1]\n")
	w.register("pier", map[string]string{".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "crew", "onCreateCommand": "exit 3"}`})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	w.must(w.as("ingrid", "", "launch", "pier", "--name", "pier"), 0)
	w.must(w.as("ingrid", "", "look-link", "add", "quay", "8000"), 0)
	w.must(w.as("ingrid", "", "run", "quay", "--", "sh", "-c", "echo more >> README.md"), 0)
	w.must(w.as("astrid", "", "webhook", "add", "http://127.0.0.1:9/"), 0)
	w.must(w.as("astrid", "", "prebuild", "put", "tide-board", "--keep", "1"), 0)
	inside := watch(t, w.client("ingrid"), "quay", wire.Run{Columns: 80, Rows: 24})
	inside.until("a shell", func(out, _ string) bool { return out != "" })
	w.must(w.as("ingrid", "", "recording", "begin", "quay"), 0)
	recordings, err := w.client("ingrid").Recordings.List(t.Context())
	if err != nil || len(recordings) != 1 {
		t.Fatalf("%+v, %v", recordings, err)
	}
	w.guest("tormod", time.Now().Add(48*time.Hour), "tide-board")
	look := func(p page, path, light, only string) {
		t.Helper()
		text, err := chromedp.Run(p.ctx, chromedp.Evaluate[string](axe+"("+only+")", chromedp.EvalAwaitPromise))
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
			t.Errorf("%s in the %s, %s: %s\n\t%s", path, light, f.Rule, f.What, strings.Join(f.Where, "\n\t"))
		}
	}
	scheme := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, x *chromedp.Target) error {
			_, err := cdp.Call(ctx, x, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: name}}})
			return err
		})
	}
	for who, pages := range map[string][]string{
		"": {"/", "/enrol#yb_link_x"},
		"ingrid": {"/mine", "/launch?repository=tide-board", "/workspaces/quay", "/workspaces/quay?view=log", "/workspaces/quay?view=ports", "/workspaces/quay?view=journal", "/bench/quay.ingrid?board=terminal:main&board=file::page.html&list=files",
			"/bench/quay.ingrid?board=change::/workspaces/tide-board//README.md&board=port:8000&list=changes", "/bench/quay.ingrid?board=sheet&board=log&list=debug", "/bench/quay.ingrid?board=sheet&list=search", "/recordings", "/recordings/" + recordings[0].ID, "/secrets", "/secrets?view=explained&repository=tide-board", "/you"},
		"astrid": {"/attention", "/fleet", "/fleet?open=quay.ingrid", "/repositories", "/repositories/tide-board", "/repositories/tide-board?view=prebuilds", "/repositories/tide-board/definition?view=values", "/people", "/cost", "/rules", "/rules?view=common", "/rules?view=beside&with=1", "/journal", "/webhooks", "/operations", "/starters", "/providers", "/launch-links"},
	} {
		p := openPage(t)
		if who != "" {
			p = w.page(t, who)
		}
		for _, path := range pages {
			p.do(path, scheme("light"), chromedp.Navigate("about:blank"), chromedp.Navigate(w.address+path), seen("h1, h2, .bench"))
			if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[any](string(script)+";0")); err != nil {
				t.Fatal(err)
			}
			look(p, path, "light", "")
			p.do("in the dark", scheme("dark"))
			look(p, path, "dark", colours)
		}
	}
}
