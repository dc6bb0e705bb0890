package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/cast"
	"yardbench/wire"
)

func (a recordingCommands) recording() *cobra.Command {
	c := &cobra.Command{Use: "recording", Short: "Recordings of what terminals print"}
	var label string
	begin := &cobra.Command{
		Use: "begin NAME", Short: "Record a terminal of a workspace of yours from now on",
		Long: "Record what a terminal of a workspace of yours prints, from now on, where the house rules let that be. Everybody at the terminal sees that it is recorded. What is typed is in it where the terminal shows it, and secrets too. " +
			"It goes on when you leave, and over a restart of the service, until the terminal ends.",
		Example: "  yardbench recording begin tide-board\n  yardbench recording begin tide-board --terminal second", Args: cobra.ExactArgs(1), ValidArgsFunction: a.names,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			r, err := api.Recordings.Begin(cmd.Context(), wire.NewRecording{Workspace: args[0], Terminal: label})
			if err != nil {
				return err
			}
			return a.print(r, func() {
				fmt.Fprintf(a.out, "the terminal %s of %s is recorded as %s\n", r.Terminal, r.Workspace, r.ID)
				fmt.Fprintf(a.err, "end it with: yardbench recording end %s\n", r.ID)
			})
		}),
	}
	begin.Flags().StringVar(&label, "terminal", "main", "which terminal, by its label")
	end := &cobra.Command{
		Use: "end RECORDING", Short: "End a recording that you asked for", Example: "  yardbench recording end 67v2mpbmy2g75voe", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			r, err := api.Recordings.End(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(r, func() { a.recordingTable([]wire.Recording{r}) })
		}),
	}
	list := &cobra.Command{
		Use: "list", Short: "List the recordings that you may see, the newest first", Example: "  yardbench recording list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Recordings.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none")
					return
				}
				a.recordingTable(all)
			})
		}),
	}
	var atOnce bool
	var times float64
	show := &cobra.Command{
		Use: "show RECORDING", Short: "Show a recording as it was printed, in its own time",
		Long:    "Show a recording as it was printed, in its own time: pauses longer than two seconds are cut. With --times it goes faster, with --at-once without time. Ctrl-C ends it.",
		Example: "  yardbench recording show 67v2mpbmy2g75voe\n  yardbench recording show 67v2mpbmy2g75voe --times 4", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if times < 0.1 || times > 1000 {
				return usage{errors.New("--times is from 0.1 to 1000")}
			}
			if atOnce {
				times = 0
			}
			r, w := io.Pipe()
			defer r.Close()
			go func() { w.CloseWithError(api.Recordings.Read(cmd.Context(), args[0], w)) }()
			return a.replay(cmd.Context(), r, times)
		}),
	}
	show.Flags().Float64Var(&times, "times", 1, "so many times as fast")
	show.Flags().BoolVar(&atOnce, "at-once", false, "without its time")
	save := &cobra.Command{
		Use: "save RECORDING FILE", Short: "Save a recording as a file in the format asciicast", Example: "  yardbench recording save 67v2mpbmy2g75voe tides.cast", Args: cobra.ExactArgs(2),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			f, err := os.OpenFile(args[1], os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return fmt.Errorf("save a recording: %w", err)
			}
			if err := errors.Join(api.Recordings.Read(cmd.Context(), args[0], f), f.Close()); err != nil {
				_ = os.Remove(args[1]) // half of it is none
				return err
			}
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove RECORDING", Short: "Remove a recording that you asked for, and that has ended", Example: "  yardbench recording remove 67v2mpbmy2g75voe", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			return api.Recordings.Remove(cmd.Context(), args[0])
		}),
	}
	c.AddCommand(begin, end, list, show, save, remove)
	return c
}

func (a recordingCommands) recordingTable(all []wire.Recording) {
	t := a.table(a.out, "RECORDING", "WORKSPACE", "TERMINAL", "BEGAN", "HOW LONG", "SIZE", "ENDED")
	for _, r := range all {
		ended, until := "it goes on", time.Now()
		if r.EndedAt != nil {
			ended, until = r.Why, *r.EndedAt
		}
		t.row(r.ID, r.Workspace+"."+r.Owner, r.Terminal, when(r.BeganAt), until.Sub(r.BeganAt).Round(time.Second).String(), volume(r.Bytes), ended)
	}
	t.print()
}

// longestPause is the longest that somebody waits who looks at a recording.
const longestPause = 2 * time.Second

// replay prints a recording, so many times as fast; 0 is at once.
func (a recordingCommands) replay(ctx context.Context, r io.Reader, times float64) error {
	var at time.Duration
	_, err := cast.Read(r, func(e cast.Event) error {
		pause := min(e.At-at, longestPause)
		if at = e.At; pause > 0 && times > 0 {
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(time.Duration(float64(pause) / times)):
			}
		}
		var err error
		switch e.Kind {
		case cast.Output:
			_, err = io.WriteString(a.out, e.Text)
		case cast.Mark:
			_, err = fmt.Fprintf(a.out, "\r\n[%s]\r\n", strings.TrimSpace(clean(e.Text)))
		}
		return err
	})
	if err == nil || ctx.Err() != nil {
		fmt.Fprint(a.out, "\x1b[0m\r\n")
	}
	if ctx.Err() != nil {
		return exit(exitInterrupt)
	}
	return err
}
