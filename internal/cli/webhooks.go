package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a journalCommands) webhook() *cobra.Command {
	c := &cobra.Command{Use: "webhook", Short: "Addresses that are told of journal entries, signed and in their order"}
	list := &cobra.Command{
		Use: "list", Short: "List the webhooks", Example: "  yardbench webhook list", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			all, err := api.Webhooks.List(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(all, func() {
				if len(all) == 0 {
					fmt.Fprintln(a.out, "there are none; add one with: yardbench webhook add ADDRESS")
					return
				}
				t := a.table(a.out, "ID", "ADDRESS", "KINDS", "TOLD UP TO", "STATE")
				for _, w := range all {
					state := "well"
					if w.PausedAt != nil {
						state = "paused since " + when(*w.PausedAt)
					}
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
			w, err := api.Webhooks.Add(cmd.Context(), in)
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
			if err := a.sure("remove it", "Tell this address no more?"); err != nil {
				return err
			}
			if err := api.Webhooks.Drop(cmd.Context(), args[0]); err != nil {
				return err
			}
			return a.print(struct{}{}, func() { fmt.Fprintln(a.err, "it is told no more") })
		}),
	}
	test := &cobra.Command{
		Use: "test ID", Short: "Post a test, and say how it went", Example: "  yardbench webhook test k3v7", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			d, err := api.Webhooks.Test(cmd.Context(), args[0])
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
			all, err := api.Webhooks.Deliveries(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(all, func() {
				t := a.table(a.out, "TIME", "ENTRY", "ATTEMPT", "OUTCOME")
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
	c.AddCommand(list, add, a.changeWebhook(), a.pauseWebhook(true), a.pauseWebhook(false), a.webhookKey(), a.replayWebhook(), remove, test, log)
	return c
}

func (a journalCommands) changeWebhook() *cobra.Command {
	var address string
	var kinds []string
	var all bool
	c := &cobra.Command{
		Use: "change ID", Short: "Change where a webhook is told, or of what", Example: "  yardbench webhook change k3v7 --address https://hooks.skerryline.example/quay\n  yardbench webhook change k3v7 --kind rules. --kind person.\n  yardbench webhook change k3v7 --all-kinds", Args: cobra.ExactArgs(1),
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			var in wire.WebhookChange
			if cmd.Flags().Changed("address") {
				in.URL = &address
			}
			if all || len(kinds) > 0 {
				of := append([]string{}, kinds...)
				in.Kinds = &of
			}
			w, err := api.Webhooks.Change(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(w, func() { fmt.Fprintf(a.out, "%s is told of %s\n", clean(w.URL), kindsOf(w)) })
		}),
	}
	c.Flags().StringVar(&address, "address", "", "where it is told from now on")
	c.Flags().StringSliceVar(&kinds, "kind", nil, "what the kinds of entries begin with, in place of those until now")
	c.Flags().BoolVar(&all, "all-kinds", false, "of everything")
	c.MarkFlagsOneRequired("address", "kind", "all-kinds")
	c.MarkFlagsMutuallyExclusive("kind", "all-kinds")
	return c
}

func (a journalCommands) pauseWebhook(pause bool) *cobra.Command {
	c := &cobra.Command{Use: "pause ID", Short: "Send a webhook nothing for now; what comes meanwhile is kept for it", Example: "  yardbench webhook pause k3v7", Args: cobra.ExactArgs(1)}
	if !pause {
		c.Use, c.Short, c.Example = "resume ID", "Go on telling a webhook from where it was paused", "  yardbench webhook resume k3v7"
	}
	c.RunE = a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
		w, err := api.Webhooks.Change(cmd.Context(), args[0], wire.WebhookChange{Paused: &pause})
		if err != nil {
			return err
		}
		return a.print(w, func() {
			if w.PausedAt != nil {
				fmt.Fprintf(a.out, "%s is sent nothing; go on with: yardbench webhook resume %s\n", clean(w.URL), w.ID)
				return
			}
			fmt.Fprintf(a.out, "%s is told from entry %d on\n", clean(w.URL), w.Cursor+1)
		})
	})
	return c
}

func (a journalCommands) webhookKey() *cobra.Command {
	return &cobra.Command{
		Use: "key ID", Short: "Give a webhook another key; it is shown this once", Args: cobra.ExactArgs(1),
		Long:    "Give a webhook another key; it is shown this once. Deliveries are marked with it at once. Where none is to be refused meanwhile: pause the webhook, make the key, give it to the receiver, resume.",
		Example: "  yardbench webhook key k3v7",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			if err := a.sure("make another", "Make another key? What is marked with the one until now ends."); err != nil {
				return err
			}
			k, err := api.Webhooks.NewKey(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.print(k, func() { fmt.Fprintln(a.out, k.Key) })
		}),
	}
}

func (a journalCommands) replayWebhook() *cobra.Command {
	var in wire.Replay
	c := &cobra.Command{
		Use: "replay ID", Short: "Tell a webhook again, from an entry on", Args: cobra.ExactArgs(1),
		Long:    "Tell a webhook again, from an entry on: those that it was told before come once more, with the same ids, in their order. A number beyond what it was told passes over what lies between.",
		Example: "  yardbench webhook replay k3v7 --from 812",
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
			w, err := api.Webhooks.Replay(cmd.Context(), args[0], in)
			if err != nil {
				return err
			}
			return a.print(w, func() { fmt.Fprintf(a.out, "%s is told from entry %d on\n", clean(w.URL), w.Cursor+1) })
		}),
	}
	c.Flags().Int64Var(&in.From, "from", 0, "the number of the first entry")
	_ = c.MarkFlagRequired("from")
	return c
}

func kindsOf(w wire.Webhook) string {
	if len(w.Kinds) == 0 {
		return "all kinds"
	}
	return clean(strings.Join(w.Kinds, ", "))
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
