// Command screenshots makes docs/screenshots/ from the running demo. `make
// screenshots` brings the demo up and calls it.
package main

import (
	"context"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"yardbench/internal/browser"
	"yardbench/internal/demo"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 4 {
		log.Fatal("usage: screenshots ADDRESS YARDBENCH FOLDER")
	}
	if err := run(context.Background(), os.Args[1], os.Args[2], os.Args[3]); err != nil {
		log.Fatal("screenshots: ", err)
	}
}

func run(ctx context.Context, address, yardbench, dir string) error {
	config, err := os.MkdirTemp("", "yb-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(config)
	cli := func(who, stdin string, args ...string) error {
		cmd := exec.CommandContext(ctx, yardbench, args...)
		cmd.Env = append(os.Environ(), "YARDBENCH_CONFIG="+filepath.Join(config, who))
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	for _, who := range []string{"ingrid", "astrid"} {
		if err := cli(who, demo.Password, "sign-in", address, "--as", who); err != nil {
			return err
		}
	}
	_ = cli("ingrid", "", "remove", "quay", "--yes", "--discard") // there may be none
	for _, shot := range []struct {
		file, who string
		commands  []string
	}{
		{"cli-launch", "ingrid", []string{"yardbench launch tide-board --name quay --dry-run", "yardbench launch tide-board --name quay", "yardbench list"}},
		{"cli-show", "ingrid", []string{"yardbench show tide-board", "yardbench port list tide-board", "yardbench secret explain tide-board"}},
		{"cli-definition", "ingrid", []string{"yardbench definition check deck-log", "yardbench definition check signal-mast --name night", "yardbench definition show gull-count"}},
		{"cli-cost", "astrid", []string{"yardbench cost", "yardbench cost --by repository", "yardbench prebuild list tide-board | head -n 10", "yardbench rules list"}},
	} {
		if err := terminal(ctx, filepath.Join(config, shot.who), filepath.Join(dir, shot.file+".png"), yardbench, shot.commands...); err != nil {
			return err
		}
	}
	if err := cli("ingrid", "", "remove", "quay", "--yes", "--discard"); err != nil {
		return err
	}
	for who, pages := range map[string][]page{
		"ingrid": {
			{"mine", "/mine", `[data-phase="ready"]`},
			{"launch", "/launch?repository=tide-board", `[data-ahead="tide-board"]`},
			{"workspace", "/workspaces/tide-board", `[data-outcome="done"]`},
			{"ports", "/workspaces/tide-board?view=ports", `[data-listening="8000"]`},
			{"bench", "/bench/tide-board.ingrid?list=changes&board=file:10:tides.py&board=terminal:main&board=port:8000", `.port-board iframe`},
			{"secrets", "/secrets?view=explained&repository=tide-board", `.ant-table-row code`},
		},
		"astrid": {
			{"attention", "/attention", `.ant-table-row`},
			{"fleet", "/fleet", `[data-phase="ready"]`},
			{"definition", "/repositories/signal-mast/definition?view=values", `.ant-table-row`},
			{"services", "/workspaces/gull-count.mats?view=services", `[data-service]`},
			{"repositories", "/repositories?open=tide-board", `[data-outcome]`},
			{"people", "/people", `.ant-table-row`},
			{"rules", "/rules", `.cm-content`},
			{"cost", "/cost", `[data-total]`},
			{"journal", "/journal", `.ant-table-row`},
		},
	} {
		if only := os.Getenv("ONLY"); only != "" && !strings.Contains(only, who) {
			continue
		}
		if err := console(ctx, address, dir, who, pages); err != nil {
			return fmt.Errorf("the pages of %s: %w", who, err)
		}
	}
	return nil
}

// terminal takes a picture of a terminal window after some commands.
func terminal(ctx context.Context, config, file, yardbench string, commands ...string) error {
	var command string
	for _, c := range commands {
		command += fmt.Sprintf("echo '$ %s'; %s; echo; ", c, c)
	}
	script := fmt.Sprintf("PATH=%q:$PATH; export YARDBENCH_CONFIG=%q; clear; %s sleep 60", filepath.Dir(yardbench), config, command)
	display := fmt.Sprintf(":%d", 90+os.Getpid()%900)
	server := exec.CommandContext(ctx, "Xvfb", display, "-screen", "0", "1280x800x24")
	if err := server.Start(); err != nil {
		return err
	}
	defer func() { _ = server.Process.Kill(); _ = server.Wait() }()
	time.Sleep(time.Second)
	window := exec.CommandContext(ctx, "xterm", "-geometry", "140x46+0+0", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#10202f", "-fg", "#e9e4d8", "-e", "bash", "-c", script)
	window.Env = append(os.Environ(), "DISPLAY="+display, "LANG=C.UTF-8")
	if err := window.Start(); err != nil {
		return err
	}
	defer func() { _ = window.Process.Kill(); _ = window.Wait() }()
	time.Sleep(7 * time.Second)
	shot := exec.CommandContext(ctx, "import", "-window", "root", file)
	shot.Env = append(os.Environ(), "DISPLAY="+display)
	if out, err := shot.CombinedOutput(); err != nil {
		return fmt.Errorf("take the picture: %w: %s", err, out)
	}
	return nil
}

// page is one to take a picture of, when what a selector names is there.
type page struct{ name, path, ready string }

// console takes pictures of pages, as somebody sees them.
func console(ctx context.Context, address, dir, who string, pages []page) error {
	tab, end := browser.Open(ctx, 4*time.Minute)
	defer end()
	shot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			time.Sleep(1200 * time.Millisecond) // fonts and transitions
			png, err := chromedp.CaptureScreenshot()(ctx, t)
			if err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, "console-"+name+".png"), png, 0o644)
		})
	}
	if err := chromedp.Do(tab, browser.Size(), chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS("#name")),
		chromedp.SendKeys(chromedp.CSS("#name"), who), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"),
		chromedp.WaitVisible(chromedp.CSS(`nav[aria-label="Pages"]`))); err != nil {
		return err
	}
	for _, p := range pages {
		steps := []chromedp.Action[chromedp.Void]{chromedp.Navigate(address + p.path), chromedp.WaitVisible(chromedp.CSS(p.ready))}
		if p.name == "terminal" {
			steps = append(steps, chromedp.Sleep(time.Second), browser.TypeLine("make check; git log --stat | head -20"), chromedp.Sleep(time.Second))
		}
		if p.name == "attention" {
			steps = append(steps, chromedp.Click(chromedp.CSS(".ant-table-row")), chromedp.WaitVisible(chromedp.CSS(".cases li")))
		}
		if err := chromedp.Do(tab, append(steps, shot(p.name))...); err != nil {
			return fmt.Errorf("%s: %w", p.path, err)
		}
	}
	return nil
}
