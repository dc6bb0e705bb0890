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
	cli := func(stdin string, args ...string) error {
		cmd := exec.CommandContext(ctx, yardbench, args...)
		cmd.Env = append(os.Environ(), "YARDBENCH_CONFIG="+config)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		if err != nil {
			return fmt.Errorf("%s: %w: %s", strings.Join(args, " "), err, out)
		}
		return nil
	}
	if err := cli(demo.Password, "sign-in", address, "--as", "ingrid"); err != nil {
		return err
	}
	for _, name := range []string{"tide-board", "fares"} { // a fresh start for the picture of a launch
		_ = cli("", "remove", name, "--yes", "--discard") // there may be none
	}
	if err := cli("", "launch", "fare-desk", "--name", "fares"); err != nil {
		return err
	}
	if err := terminal(ctx, config, filepath.Join(dir, "cli-launch.png"), yardbench, "yardbench repos", "yardbench launch tide-board", "yardbench list"); err != nil {
		return err
	}
	if err := terminal(ctx, config, filepath.Join(dir, "cli-show.png"), yardbench, "yardbench show tide-board", "yardbench run tide-board -- make check"); err != nil {
		return err
	}
	return pages(ctx, address, dir)
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

// pages takes a picture of each page of the console.
func pages(ctx context.Context, address, dir string) error {
	page, end := browser.Open(ctx, 3*time.Minute)
	defer end()
	shot := func(name string) chromedp.Action[chromedp.Void] {
		return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			time.Sleep(700 * time.Millisecond) // fonts and transitions
			png, err := chromedp.CaptureScreenshot()(ctx, t)
			if err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644)
		})
	}
	return chromedp.Do(page,
		browser.Size(), chromedp.Navigate(address), chromedp.WaitVisible(chromedp.CSS("#name")), shot("console-sign-in"),
		chromedp.SendKeys(chromedp.CSS("#name"), "ingrid"), chromedp.SendKeys(chromedp.CSS("#password"), demo.Password+"\r"),
		chromedp.WaitVisible(chromedp.CSS(`[data-phase="ready"]`)), shot("console-workspaces"),
		chromedp.Navigate(address+"/launch"), chromedp.WaitVisible(chromedp.CSS("#repository")), shot("console-launch"),
		chromedp.Navigate(address+"/workspaces/tide-board"), chromedp.WaitVisible(chromedp.CSS(`[data-outcome="done"]`)), shot("console-workspace"),
		chromedp.Navigate(address+"/workspaces/tide-board?view=log"), chromedp.WaitVisible(chromedp.CSS(`.log`)), shot("console-log"),
		chromedp.Navigate(address+"/workspaces/tide-board?view=terminal"), chromedp.WaitVisible(chromedp.CSS(`.terminal .xterm-screen`)),
		chromedp.Sleep(time.Second), browser.TypeLine("make check; git log --stat | head -20"), chromedp.Sleep(time.Second), shot("console-terminal"),
	)
}
