package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"yardbench/client"
	"yardbench/wire"
)

func (a peopleCommands) luggage() *cobra.Command {
	var add, remove []string
	c := &cobra.Command{
		Use: "luggage", Short: "Say what of your home folder goes along from workspace to workspace",
		Long: "Say what of your home folder goes along from workspace to workspace: files and folders like ~/.bash_history. What has changed is taken out of your workspaces every two minutes, and when they stop, are rebuilt or removed; it is sealed in the service, and laid into each of your workspaces at its start. " +
			"The newer file counts. A file that you delete comes back at the next start: take its path out. Nothing goes along to or from what a pull request proposes. Without options it says what goes along, and what does not and why.",
		Example: "  yardbench me luggage\n  yardbench me luggage --add '~/.bash_history' --add '~/.config/tide'\n  yardbench me luggage --remove '~/.config/tide'", Args: cobra.NoArgs,
		RunE: a.withClient(func(cmd *cobra.Command, api *client.Client, _ []string) error {
			l, err := api.Self.Luggage(cmd.Context())
			if err == nil && len(add)+len(remove) > 0 {
				paths := l.Paths
				for _, p := range remove {
					p = "~/" + strings.TrimSuffix(strings.TrimPrefix(fromHome(p), "~/"), "/")
					if !slices.Contains(paths, p) {
						return usage{fmt.Errorf("%s is none of what goes along; see yardbench me luggage", clean(p))}
					}
					paths = slices.DeleteFunc(paths, func(is string) bool { return is == p })
				}
				for _, p := range add {
					paths = append(paths, fromHome(p))
				}
				l, err = api.Self.PutLuggage(cmd.Context(), wire.PutLuggage{Paths: paths})
			}
			if err != nil {
				return err
			}
			return a.print(l, func() { a.printLuggage(l) })
		}),
	}
	c.Flags().StringArrayVar(&add, "add", nil, "a file or folder of your home folder")
	c.Flags().StringArrayVar(&remove, "remove", nil, "one that is to go along no more: what is kept of it is forgotten")
	return c
}

// fromHome is a path of the home folder as it is anywhere, where a shell has put that
// of this machine in the place of ~.
func fromHome(p string) string {
	if home, err := os.UserHomeDir(); err == nil && home != "/" {
		if rest, ok := strings.CutPrefix(p, filepath.Clean(home)+"/"); ok {
			return "~/" + rest
		}
	}
	return p
}

func (a peopleCommands) printLuggage(l wire.Luggage) {
	switch {
	case l.MostBytes == 0:
		fmt.Fprintln(a.out, "the house rules let nothing go along")
		return
	case len(l.Paths) == 0:
		fmt.Fprintln(a.out, "nothing goes along; have something with: yardbench me luggage --add '~/.bash_history'")
		return
	}
	fmt.Fprintf(a.out, "%s\n%s of at most %s\n", clean(strings.Join(l.Paths, "  ")), volume(l.Bytes), volume(l.MostBytes))
	if len(l.Files) == 0 {
		fmt.Fprintln(a.out, "nothing is kept yet: it is taken out of your workspaces within two minutes, and when they stop")
		return
	}
	t := a.table(a.out, "FILE", "SIZE", "CHANGED", "IN", "")
	for _, f := range l.Files {
		size, changed := "", ""
		if f.ChangedAt != nil {
			size, changed = volume(f.Bytes), when(*f.ChangedAt)
		}
		why := ""
		if f.LeftOut != "" {
			why = "left out: " + f.LeftOut
		}
		t.row(f.Path, size, changed, f.From, why)
	}
	t.print()
}
