package cli

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/internal/core/journal"
	"yardbench/wire"
)

func (a journalCommands) journal() *cobra.Command {
	q := client.JournalQuery{Newest: true}
	follow := false
	c := &cobra.Command{Use: "journal", Short: "Who did what, and what happened"}
	list := &cobra.Command{
		Use: "list", Short: "List what happened, the newest first", Example: "  yardbench journal list\n  yardbench journal list --workspace tide-board\n  yardbench journal list --person ingrid --kind secret --from 2026-11-02\n  yardbench journal list --kind workspace.phase --follow", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			if follow {
				return a.followJournal(cmd.Context(), api, q)
			}
			es, err := api.Journal.List(cmd.Context(), q)
			if err != nil {
				return err
			}
			return a.print(es, func() {
				t := a.table(a.out, "NO.", "TIME", "KIND", "SUBJECT", "BY", "DETAILS")
				for _, e := range es {
					t.row(strconv.FormatInt(e.Number, 10), when(e.At), e.Kind, about(e), e.ActorName, details(e.Data))
				}
				t.print()
			})
		}),
	}
	c.AddCommand(list, a.journalHead(), a.journalVerify(), a.journalExport())
	list.Flags().StringVar(&q.Workspace, "workspace", "", "of one workspace")
	list.Flags().StringVar(&q.Person, "person", "", "whose matter it is, or who did it")
	list.Flags().StringVar(&q.Repository, "repository", "", "what was changed of a repository and its prebuild plans")
	list.Flags().StringVar(&q.Kind, "kind", "", "what the kind begins with, like workspace.phase")
	list.Flags().StringVar(&q.From, "from", "", "from this time or day on")
	list.Flags().StringVar(&q.To, "to", "", "until before this time or day")
	list.Flags().IntVar(&q.Limit, "limit", 40, "how many, at most 1000")
	list.Flags().BoolVar(&follow, "follow", false, "print the newest, the oldest of them first, and go on as more come")
	return c
}

// about says what an entry is about.
func about(e wire.JournalEntry) string { return cmp.Or(e.SubjectName, e.OwnerName) }

// followJournal prints the newest entries and each that comes, one a line,
// until it is ended.
func (a journalCommands) followJournal(ctx context.Context, api *client.Client, q client.JournalQuery) error {
	es, err := api.Journal.List(ctx, q)
	if err != nil {
		return err
	}
	slices.Reverse(es)
	q.Newest, q.Limit = false, 1000
	tell := func() error {
		for _, e := range es {
			q.After = e.Number
			if a.json {
				if err := json.NewEncoder(a.out).Encode(e); err != nil {
					return err
				}
				continue
			}
			if _, err := fmt.Fprintf(a.out, "%-6d %s  %-22s %-16s %-10s %s\n", e.Number, when(e.At), e.Kind, about(e), e.ActorName, details(e.Data)); err != nil {
				return err
			}
		}
		return nil
	}
	if err := tell(); err != nil {
		return err
	}
	err = api.Watch(ctx, func() (bool, error) {
		var err error
		if es, err = api.Journal.List(ctx, q); err == nil {
			err = tell()
		}
		return err != nil, err
	})
	if ctx.Err() != nil {
		return nil // it was ended by hand
	}
	return err
}

// details puts an entry's data on one line.
func details(data map[string]any) string {
	keys := make([]string, 0, len(data))
	for k := range data {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	var parts []string
	for _, k := range keys {
		v := data[k]
		if v == nil || v == "" || v == false {
			continue
		}
		s, ok := v.(string)
		if versions, is := v.(map[string]any); is && k == "secrets" {
			var all []string
			for _, name := range slices.Sorted(maps.Keys(versions)) {
				all = append(all, fmt.Sprintf("%s version %v", name, versions[name]))
			}
			s = strings.Join(all, ", ")
		} else if !ok {
			b, _ := json.Marshal(v) // it came from JSON
			s = string(b)
		}
		parts = append(parts, k+" "+s)
	}
	return text.Trim(strings.Join(parts, ", "), 110)
}

func (a journalCommands) journalHead() *cobra.Command {
	return &cobra.Command{
		Use: "head", Short: "Print the newest entry, signed: keep it to tell later whether the journal was changed", Example: "  yardbench journal head >> heads", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			h, err := api.Journal.Head(cmd.Context())
			if err != nil {
				return err
			}
			return a.print(h, func() { fmt.Fprintln(a.out, h.Line) })
		}),
	}
}

func (a journalCommands) journalVerify() *cobra.Command {
	var export string
	var keys []string
	service := a.withClient(func(cmd *cobra.Command, api *client.Client, args []string) error {
		var heads []string
		if len(args) == 1 {
			var err error
			if heads, err = headLines(args[0]); err != nil {
				return err
			}
		}
		earlier := make([]string, len(keys))
		for i, f := range keys {
			text, err := os.ReadFile(f)
			if err != nil {
				return err
			}
			earlier[i] = string(text)
		}
		v, err := api.Journal.Verify(cmd.Context(), heads, earlier...)
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
	})
	c := &cobra.Command{
		Use: "verify [FILE]", Short: "Look through the whole journal, or an export of it, and hold it against heads kept in a file, one a line",
		Long:    "Look through the whole journal: every entry must fit the one before it. With a file of heads that were given out before (by journal head, a webhook or an export), each must still be in it as it was. With --export an export is held against its seal instead, and against such heads: for that no service is asked. The exit code is 4 where something is wrong.",
		Example: "  yardbench journal verify\n  yardbench journal verify heads\n  yardbench journal verify heads --key journal-until-march.pem\n  yardbench journal verify --export november.jsonl --key journal.pem", Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if export != "" {
				if len(keys) > 1 {
					return usage{errors.New("an export has one key: give one --key")}
				}
				return a.verifyExport(export, strings.Join(keys, ""), args)
			}
			return service(cmd, args)
		},
	}
	c.Flags().StringVar(&export, "export", "", "an export to look through, in the place of the service's journal")
	c.Flags().StringArrayVar(&keys, "key", nil, "an earlier key of the journal that you kept, in PEM, with which heads are signed (as often as wanted); with --export: its key, that came another way")
	return c
}

func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

func (a journalCommands) journalExport() *cobra.Command {
	var q client.JournalQuery
	c := &cobra.Command{
		Use: "export", Short: "Print entries as CloudEvents 1.0, one a line, then a seal that vouches for them, and last the signed head",
		Example: "  yardbench journal export > journal.jsonl\n  yardbench journal export --from 2026-11-01 --to 2026-12-01 --person ingrid > november.jsonl\n  yardbench journal export --after 5120 --kind workspace.", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			return api.Journal.Export(cmd.Context(), q, a.out)
		}),
	}
	c.Flags().Int64Var(&q.After, "after", 0, "entries after this number")
	c.Flags().StringVar(&q.Kind, "kind", "", "what the kind begins with")
	c.Flags().StringVar(&q.Workspace, "workspace", "", "of one workspace")
	c.Flags().StringVar(&q.Repository, "repository", "", "what was changed of a repository and its prebuild plans")
	c.Flags().StringVar(&q.Person, "person", "", "whose matter it is, or who did it")
	c.Flags().StringVar(&q.From, "from", "", "from this time or day on")
	c.Flags().StringVar(&q.To, "to", "", "until before this time or day")
	return c
}

// verifyExport holds an export against its seal, without the service.
func (a journalCommands) verifyExport(file, keyFile string, headFiles []string) error {
	var key ed25519.PublicKey
	if keyFile != "" {
		text, err := os.ReadFile(keyFile)
		if err != nil {
			return err
		}
		if key, err = journal.ParsePublicPEM(text); err != nil {
			return fmt.Errorf("%s: %w", keyFile, err)
		}
	}
	var heads []journal.Head
	for _, f := range headFiles {
		lines, err := headLines(f)
		if err != nil {
			return err
		}
		for _, l := range lines {
			h, err := journal.ParseHead(l)
			if err != nil {
				return fmt.Errorf("%s: %w", f, err)
			}
			heads = append(heads, h)
		}
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	r, err := journal.VerifyExport(in, key, heads)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	err = a.print(r, func() {
		for _, p := range r.Problems {
			fmt.Fprintln(a.out, clean(p))
		}
		if len(r.Problems) > 0 {
			return
		}
		fmt.Fprintf(a.out, "it is as service %s made it at %s: %s, held against %s\n", clean(r.Installation), r.At.UTC().Format("2006-01-02 15:04:05 MST"), entries(int64(r.Entries)), some(r.Heads, "head"))
		if r.Own {
			fmt.Fprintln(a.out, "the key is the one that stands in it: give with --key one that came another way, from journal head --json say, to know whose it is")
		}
	})
	if err == nil && len(r.Problems) > 0 {
		return exit(exitRefused)
	}
	return err
}

// headLines are the heads in a file, one a line.
func headLines(file string) (out []string, err error) {
	text, err := os.ReadFile(file)
	for l := range strings.Lines(string(text)) {
		if l = strings.TrimSpace(l); l != "" {
			out = append(out, l)
		}
	}
	return out, err
}
