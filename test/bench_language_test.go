package test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
)

// A second language, by the table alone: its program is in the image, and no definition
// names it. The program of this machine is brought into the workspace, with what it
// stands on.
func TestBenchServesC(t *testing.T) {
	t.Parallel()
	program, err := exec.LookPath("clangd")
	if err != nil {
		t.Skip("needs clangd: install the package clangd")
	}
	w := newWorld(t)
	w.push("tide-board", "main", map[string]string{
		".devcontainer/devcontainer.json": `{"image": "skerryline/base:1", "remoteUser": "root"}`,
		"gauge.h":                         "/* Centimetres over the chart's zero. */\nint height_cm(int hour);\n",
		"gauge.c":                         "#include \"gauge.h\"\n\nint height_cm(int hour)\n{\n    return 40 * heur;\n}\n\nint twice(void)\n{\n    return 2 * height_cm(6);\n}\n",
	})
	w.must(w.as("ingrid", "", "launch", "tide-board", "--name", "quay"), 0, "is ready")
	if program, err = filepath.EvalSymlinks(program); err != nil {
		t.Fatal(err)
	}
	linked, err := exec.Command("ldd", program).Output()
	if err != nil {
		t.Fatal(err)
	}
	brought := []string{"--create", "--dereference", "--absolute-names", "--transform", "s,^" + program + ",/usr/bin/clangd,", program}
	for line := range strings.Lines(string(linked)) {
		if _, file, ok := strings.Cut(line, "=> "); ok && !strings.Contains(file, "/libc.so") {
			brought = append(brought, strings.Fields(file)[0])
		}
	}
	tar := exec.Command("tar", brought...)
	in := w.command("ingrid", "", "run", "quay", "--", "tar", "--extract", "--absolute-names", "--skip-old-files")
	if in.Stdin, err = tar.StdoutPipe(); err != nil {
		t.Fatal(err)
	}
	if err := tar.Start(); err != nil {
		t.Fatal(err)
	}
	w.must(in.run(), 0)
	if err := tar.Wait(); err != nil {
		t.Fatal(err)
	}

	p := w.page(t, "ingrid")
	p.do("its language is served", chromedp.Navigate(w.bench("quay", "files", "file::gauge.c")), seen(`[data-served="c"]`), p.says("clangd"))
	p.do("a mistake is told, and goes", holds(`[...document.querySelectorAll(".cm-lintRange-error")].some((e) => e.innerText.includes("heur"))`), write("gauge.c", "heur", "hour"), holds(`!document.querySelector(".cm-lintRange-error")`))
	p.do("from a use to where it is defined", caret("gauge.c", "    return 2 * height"), browser.Key(".", "Period", 1), holds(view("gauge.c")+`.state.doc.lineAt(`+view("gauge.c")+`.state.selection.main.head).number === 3`))
}
