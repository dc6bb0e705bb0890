package console

import (
	"context"
	"encoding/base64"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
)

// pure loads parts of the console that touch no page into an empty one, as what they
// export, and gives what runs expressions over them there.
func pure(t *testing.T, files ...string) func(expression string) string {
	t.Helper()
	if browser.Find() == "" {
		t.Skip("needs Chromium: install the package chromium")
	}
	ctx, end := browser.Open(t.Context(), 2*time.Minute)
	t.Cleanup(end)
	load := chromedp.Steps(chromedp.Navigate("about:blank"))
	if err := chromedp.Do(ctx, load); err != nil {
		t.Fatal(err)
	}
	run := func(expression string) string {
		t.Helper()
		within, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		got, err := chromedp.Run(within, chromedp.Evaluate[string](`Promise.resolve().then(async () => JSON.stringify(await (async () => { with (window.parts ?? {}) { `+expression+` } })()) ?? "undefined")`, chromedp.EvalAwaitPromise))
		if err != nil {
			t.Errorf("%s: %v", expression, err)
		}
		return got
	}
	for _, f := range files {
		script, err := exec.Command("node", "-e", `import("rolldown").then(async ({rolldown}) => process.stdout.write((await (await rolldown({input: process.argv[1], tsconfig: true, logLevel: "silent"})).generate({format: "esm"})).output[0].code))`, f).Output()
		if err != nil {
			t.Fatalf("%s is not made JavaScript: %v", f, err)
		}
		run(`window.parts = {...window.parts, ...await import("data:text/javascript;base64,` + base64.StdEncoding.EncodeToString(script) + `")}`)
	}
	return run
}

// A common value is written into the house rules, which stay as they are but for it.
func TestCommonRules(t *testing.T) {
	t.Parallel()
	run := pure(t, "src/parts/commonRules.ts")
	for _, c := range []struct{ expression, want string }{
		{`commonOf("usual_size: small\nlimits:\n  person: {existing: 5, memory: 12 GiB} # each\nidle:\n  rest_after: 45 min\n")`, `["small","5","","","12 GiB","45 min","","","",""]`},
		{`commonOf("a: [")`, `undefined`}, {`commonOf("just words")`, `undefined`}, {`commonOf("")`, `undefined`},
		{`withValue("# ours\nidle:\n  rest_after: 45 min # long enough\n  x: 1\n", ["idle", "rest_after"], " 30 min ")`, `"# ours\nidle:\n  rest_after: 30 min # long enough\n  x: 1\n"`},
		{`withValue("limits:\n  person: {existing: 5, running: 3}\n", ["limits", "person", "existing"], "8")`, `"limits:\n  person: {existing: 8, running: 3}\n"`},
		{`withValue("# ours\nusual_size: small # and cheap\n", ["idle", "hold_most"], "12 h")`, `"# ours\nusual_size: small # and cheap\nidle:\n  hold_most: 12 h\n"`},
		{`withValue("limits:\n  person: {existing: 5}\n", ["limits", "person", "cores"], "6")`, `"limits:\n  person: {existing: 5, cores: 6}\n"`},
		{`withValue("idle: {rest_after: 45 min, warn_before: 5 min}\n", ["idle", "warn_before"], "")`, `"idle: {rest_after: 45 min}\n"`},
		{`withValue("a: [", ["idle", "warn_before"], "5 min")`, `"a: ["`},
	} {
		if got := run("return " + c.expression); got != c.want && got != strings.ReplaceAll(c.want, "undefined", `"undefined"`) {
			t.Errorf("%s is %s, not %s", c.expression, got, c.want)
		}
	}
}

// A list is found in, filtered by several values of several kinds, and ordered.
func TestFitting(t *testing.T) {
	t.Parallel()
	run := pure(t, "src/parts/fitting.ts")
	const rows = `const rows = [["quay", "Harbour", ["ready"]], ["board", "Timetable", ["ready", "idle"]], ["chart", "Harbour", ["stopped"]], ["Quay-2", "", ["failed", "disk full"]]].map(([name, team, states]) => ({name, team, states})); `
	for _, c := range []struct{ expression, want string }{
		{`{words: "", chosen: []}`, `["quay","board","chart","Quay-2"]`},
		{`{words: " QUAY", chosen: []}`, `["quay","Quay-2"]`},
		{`{words: "", chosen: [{of: (r) => r.states, values: ["idle", "stopped"]}]}`, `["board","chart"]`},
		{`{words: "", chosen: [{of: (r) => r.states, values: ["ready", "stopped"]}, {of: (r) => [r.team], values: ["Harbour"]}]}`, `["quay","chart"]`},
		{`{words: "x", chosen: []}`, `[]`},
	} {
		if got := run(rows + `return fitting(rows, {texts: (r) => [r.name], ...(` + c.expression + `)}).map((r) => r.name)`); got != c.want {
			t.Errorf("%s gives %s, not %s", c.expression, got, c.want)
		}
	}
	if got := run(rows + `return counted(rows, (r) => [...r.states, r.team])`); got != `[["Harbour",2],["ready",2],["Timetable",1],["disk full",1],["failed",1],["idle",1],["stopped",1]]` {
		t.Errorf("they are counted as %s", got)
	}
	if got := run(rows + `const by = (a, b) => byText(a.name, b.name), names = (all) => all.map((r) => r.name); return [names(ordered(rows, by, false)), names(ordered(rows, by, true)), names(rows), ordered(rows, undefined, true) === rows]`); got != `[["Quay-2","board","chart","quay"],["quay","chart","board","Quay-2"],["quay","board","chart","Quay-2"],true]` {
		t.Errorf("they are ordered as %s", got)
	}
}

// The bench's layout is the address bar: what stands there is read as it was written, and
// what is no board is none.
func TestBoards(t *testing.T) {
	t.Parallel()
	run := pure(t, "src/bench/boards.ts", "src/bench/edits.ts")
	for _, c := range []struct{ expression, want string }{
		{`["file:12:tides.py", "file::a/b:c.py", "file:0:x", "change:staged:/workspaces/tide-board//board/x.py", "change::/w//x//y", "terminal:main-2", "port:8000", "sheet", "log", "debug"].map((a) => addressOf(boardOf(a)))`,
			`["file:12:tides.py","file::a/b:c.py","file::x","change:staged:/workspaces/tide-board//board/x.py","change::/w//x//y","terminal:main-2","port:8000","sheet","log","debug"]`},
		{`["", "file", "file:", "file:12:", "file:x:y", "change::/w/x", "change:new:/w//x", "terminal:", "terminal:UP", "terminal:" + "x".repeat(33), "port:0", "port:70000", "port:8e3x", "sheet:1", "javascript:1", "https://x", "file::" + "x".repeat(5000)].map((a) => boardOf(a) ?? null)`,
			`[` + strings.TrimSuffix(strings.Repeat("null,", 17), ",") + `]`},
		{`boardOf("file::new\nline")`, `{"kind":"file","path":"new\nline"}`},
		{`searchOf(layoutOf(new URLSearchParams("board=file:3:a%26b&board=terminal:main&board=file:9:a%26b&board=nothing&board=log&board=sheet&at=1&list=files"))).toString()`, `"board=file%3A3%3Aa%26b&board=terminal%3Amain&board=log&at=1&list=files"`},
		{`layoutOf(new URLSearchParams("board=log&at=7&list=secrets"))`, `{"boards":[{"kind":"log"}],"at":0}`},
		// What is opened takes the place of its kind, and stands beside others.
		{`addressesOf(opened(lay("terminal:main"), boardOf("file::a")))`, `["terminal:main","file::a",1]`},
		{`addressesOf(opened(lay("terminal:main", "file::a"), boardOf("file:4:b")))`, `["terminal:main","file:4:b",1]`},
		{`addressesOf(opened(lay("terminal:main", "file::a"), boardOf("file::b"), true))`, `["terminal:main","file::a","file::b",2]`},
		{`addressesOf(opened(lay("terminal:main", "file::a"), boardOf("file:9:a")))`, `["terminal:main","file:9:a",1]`},
		{`addressesOf(opened(lay("terminal:main", "file::a", "log"), boardOf("port:80")))`, `["port:80","file::a","log",0]`},
		{`addressesOf(opened(lay("terminal:main", "file::a", "log"), boardOf("file::b"), true))`, `["file::b","file::a","log",0]`},
		{`addressesOf(closed({...lay("terminal:main", "file::a", "log"), at: 2}, 0))`, `["file::a","log",1]`},
		{`addressesOf(closed({...lay("log"), at: 0}, 0))`, `[0]`},
		{`places('  File "board/tides.py", line 12, in x').concat(places("./a/b.go:3:4: undefined; c.py:7"), places("https://x.example:80/ 12:30 a:1 b.c:0")).map((p) => p.path + " " + p.line)`, `["board/tides.py 12","a/b.go 3","c.py 7"]`},
		{`[under("/w/a/b", "/w"), under("/x/a", "/w"), absolute("a", "/w"), absolute("/a", "/w")]`, `["a/b","/x/a","/w/a","/a"]`},
		// A file's language is by its name; the definition's own before others.
		{`["board.py", "a/b/tides.py", "x.tide", "go.mod", "README", "x.PY", "Gemfile", "xgo.mod"].map((p) => languageOf([{id: "python", files: ["*.py", "*.pyi"]}, {id: "go", files: ["*.go", "go.mod"]}, {id: "ruby", files: ["*.rb", "Gemfile"]}, {id: "tide", own: true, files: ["*.tide", "tides.py"]}], p)?.id ?? "")`,
			`["python","tide","tide","go","","","ruby",""]`},
		// What a language's program says of places is held to the text.
		{`[uriOf("/w/a b/ö.py"), pathOf("file:///w/a%20b/%C3%B6.py"), pathOf("http://x/"), pathOf("file:///%zz") ?? null, pathOf("file://host/x") ?? null]`, `["file:///w/a%20b/%C3%B6.py","/w/a b/ö.py",null,null,null]`},
		{`[[0, 2], [1, 99], [99, 0], [-3, 1], [NaN, 1], [1, -7]].map(([line, character]) => offsetOf(doc, {line, character}))`, `[2,7,7,0,0,4]`},
		{`changesOf(doc, [edit(1, 0, 1, 3, "x"), edit(0, 0, 0, 1, "y")])`, `[{"from":0,"to":1,"insert":"y"},{"from":4,"to":7,"insert":"x"}]`},
		{`[changesOf(doc, [edit(0, 0, 0, 3, "x"), edit(0, 1, 0, 2, "y")]) ?? null, changesOf(doc, [edit(0, 3, 0, 1, "x")]) ?? null]`, `[null,null]`},
		{`[...editsOf({documentChanges: [{textDocument: {uri: "file:///a"}, edits: [1]}, {textDocument: {uri: "file:///a"}, edits: [2]}]})]`, `[["file:///a",[1,2]]]`},
		{`[editsOf({documentChanges: [{kind: "delete", uri: "file:///a"}]}) ?? null, [...editsOf({})], [...editsOf({changes: {"file:///b": [3]}})]]`, `[null,[],[["file:///b",[3]]]]`},
	} {
		const helpers = `const lay = (...a) => ({boards: a.map(boardOf), at: 0}), addressesOf = (l) => [...l.boards.map(addressOf), l.at], edit = (a, b, c, d, newText) => ({range: {start: {line: a, character: b}, end: {line: c, character: d}}, newText}),
			doc = {lines: 2, length: 7, line: (n) => [{from: 0, length: 3}, {from: 4, length: 3}][n - 1]};`
		if got := run(helpers + ` return ` + c.expression); got != c.want {
			t.Errorf("%s\n is   %s\n want %s", c.expression, got, c.want)
		}
	}
}
