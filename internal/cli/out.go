package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/internal/client"
	"yardbench/internal/wire"
)

func (a *app) journalHead() *cobra.Command {
	return &cobra.Command{
		Use: "head", Short: "Print the newest entry, signed: keep it to tell later whether the journal was changed", Example: "  yardbench journal head >> heads", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			h, err := api.JournalHead(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(h, func() { fmt.Fprintln(a.out, h.Line) })
		}),
	}
}

func (a *app) journalVerify() *cobra.Command {
	return &cobra.Command{
		Use: "verify [FILE]", Short: "Look through the whole journal, and hold it against heads kept in a file, one a line",
		Long:    "Look through the whole journal: every entry must fit the one before it. With a file of heads that were given out before (by journal head, a webhook or an export), each must still be in it as it was. The exit code is 4 where something is wrong.",
		Example: "  yardbench journal verify\n  yardbench journal verify heads", Args: cobra.MaximumNArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var heads []string
			if len(args) == 1 {
				text, err := os.ReadFile(args[0])
				if err != nil {
					return err
				}
				for _, l := range strings.Split(string(text), "\n") {
					if l = strings.TrimSpace(l); l != "" {
						heads = append(heads, l)
					}
				}
			}
			v, err := api.VerifyJournal(cmd.Context(), heads)
			if err != nil {
				return err
			}
			err = a.print(v, func() {
				for _, p := range v.Problems {
					fmt.Fprintln(a.out, clean(p))
				}
				if v.Sound {
					fmt.Fprintf(a.out, "the journal is sound: %s fit together; held against %s\n", entries(v.Entries), some(v.Heads, "head"))
				}
			})
			if err == nil && !v.Sound {
				return exit(exitRefused)
			}
			return err
		}),
	}
}

func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

func (a *app) journalExport() *cobra.Command {
	var after int64
	var kind string
	c := &cobra.Command{
		Use: "export", Short: "Print entries as CloudEvents 1.0, one a line, and last the signed head", Example: "  yardbench journal export > journal.jsonl\n  yardbench journal export --after 5120 --kind workspace.", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			return api.ExportJournal(cmd.Context(), after, kind, a.out)
		}),
	}
	c.Flags().Int64Var(&after, "after", 0, "entries after this number")
	c.Flags().StringVar(&kind, "kind", "", "what the kind begins with")
	return c
}

func (a *app) webhook() *cobra.Command {
	c := &cobra.Command{Use: "webhook", Short: "Addresses that are told of journal entries, signed and in their order"}
	list := &cobra.Command{
		Use: "list", Short: "List the webhooks", Example: "  yardbench webhook list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Webhooks(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; add one with: yardbench webhook add ADDRESS")
					return
				}
				t := newTable(a.out, "ID", "ADDRESS", "KINDS", "TOLD UP TO", "STATE")
				for _, w := range all {
					state := "well"
					if w.FailingSince != nil {
						state = "failing since " + when(*w.FailingSince) + ": " + w.Problem
					}
					kinds := strings.Join(w.Kinds, ", ")
					if kinds == "" {
						kinds = "all"
					}
					t.row(w.ID, w.URL, kinds, strconv.FormatInt(w.Cursor, 10), state)
				}
				t.print()
			})
		}),
	}
	var in wire.NewWebhook
	add := &cobra.Command{
		Use: "add ADDRESS", Short: "Have an address told; its key is shown this once", Example: "  yardbench webhook add https://hooks.skerryline.example/yard --kind workspace.phase --kind prebuild.", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			in.URL = args[0]
			w, err := api.AddWebhook(cmd.Context(), in)
			if err != nil {
				return err
			}
			return a.print(w, func() {
				fmt.Fprintf(a.err, "%s is told from now on. Deliveries are marked with this key, shown only now:\n", clean(w.URL))
				fmt.Fprintln(a.out, w.Key)
				fmt.Fprintf(a.err, "try it with: yardbench webhook test %s\n", w.ID)
			})
		}),
	}
	add.Flags().StringSliceVar(&in.Kinds, "kind", nil, "what the kinds of entries begin with (default: all)")
	remove := &cobra.Command{
		Use: "remove ID", Short: "Tell an address no more", Example: "  yardbench webhook remove k3v7", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := api.DropWebhook(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "it is told no more") })
		}),
	}
	test := &cobra.Command{
		Use: "test ID", Short: "Post a test, and say how it went", Example: "  yardbench webhook test k3v7", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			d, err := api.TestWebhook(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if err := a.print(d, func() { fmt.Fprintln(a.out, outcomeOf(d)) }); err != nil || d.Problem == "" {
				return err
			}
			return exit(1)
		}),
	}
	log := &cobra.Command{
		Use: "log ID", Short: "Show the newest attempts to tell an address", Example: "  yardbench webhook log k3v7", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			all, err := api.Deliveries(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := newTable(a.out, "TIME", "ENTRY", "ATTEMPT", "OUTCOME")
				for _, d := range all {
					entry := strconv.FormatInt(d.Entry, 10)
					if d.Entry == 0 {
						entry = "test"
					}
					t.row(when(d.At), entry, strconv.Itoa(d.Attempt), outcomeOf(d))
				}
				t.print()
			})
		}),
	}
	c.AddCommand(list, add, remove, test, log)
	return c
}

func outcomeOf(d wire.Delivery) string {
	if d.Problem != "" {
		return "not taken: " + clean(d.Problem)
	}
	return fmt.Sprintf("taken with %d after %s", d.Status, took(time.Duration(d.TookMS)*time.Millisecond))
}

// volume is an amount of bytes, to a figure that people keep in mind.
func volume(n int64) string {
	switch {
	case n >= 1<<30:
		return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
	case n >= 1<<20:
		return fmt.Sprintf("%d MiB", (n+1<<19)>>20)
	}
	return fmt.Sprintf("%d KiB", (n+1<<10-1)>>10)
}
