package cli

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yardbench/internal/backup"
	"yardbench/internal/vault"
	"yardbench/wire"
)

func (a serviceCommands) backup() *cobra.Command {
	c := &cobra.Command{Use: "backup", Short: "Copies of what the service keeps: make one while it runs, check it, put it back",
		Long: "Copies of what the service keeps: its records, logs, recordings and, sealed by a passphrase, its keys. They are made, checked and put back on the machine where the data directory is. People's files are the engine's volumes, and are not in it."}
	c.AddCommand(a.makeBackup(), a.verifyBackup(), a.restoreBackup(), a.backupFromTrail())
	return c
}

// passphrase reads one from a file, or where that is named - without echo or from
// standard input. A new one is asked for twice at a terminal.
func (a serviceCommands) passphrase(file string, anew bool) (string, error) {
	var text string
	switch file {
	case "":
		return "", nil
	case "-":
		first, err := a.readHidden("Passphrase of the backup's keys: ")
		if err != nil {
			return "", err
		}
		if anew && isTerminal(a.in) {
			again, err := a.readHidden("The same again: ")
			if err != nil {
				return "", err
			}
			if again != first {
				return "", usage{errors.New("the two are not the same; no backup is made")}
			}
		}
		text = first
	default:
		content, err := os.ReadFile(file)
		if err != nil {
			return "", err
		}
		text = strings.TrimRight(string(content), "\r\n")
	}
	if len([]rune(text)) < backup.FewestOfPassphrase {
		return "", usage{fmt.Errorf("a passphrase has at least %d characters: whoever guesses it has every secret", backup.FewestOfPassphrase)}
	}
	return text, nil
}

func (a serviceCommands) makeBackup() *cobra.Command {
	var data, file string
	var without bool
	c := &cobra.Command{
		Use: "make FOLDER", Short: "Copy what the service keeps into a folder that is not there yet, while it runs",
		Long: "Copy what the service keeps into a folder that is not there yet: its records as they are at one moment, logs, recordings, and the keys in an age file that the passphrase opens. The service runs on meanwhile. The folder appears whole or not at all.\n\n" +
			"With --without-keys the keys are left out, and are to be kept apart: without them nothing that is sealed opens.",
		Example: "  yardbench backup make /backups/monday --data /var/lib/yardbench --passphrase-file /etc/yardbench/passphrase\n  yardbench backup make /backups/tuesday --data /var/lib/yardbench --without-keys",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			phrase, err := a.passphrase(file, true)
			if err != nil {
				return err
			}
			began := time.Now()
			m, err := backup.Make(cmd.Context(), data, args[0], phrase, wire.Version(), began)
			if err != nil {
				return err
			}
			return a.print(m, func() {
				keys := "; the keys are not in it: keep a copy of " + data + "/keys apart from it"
				if m.Keys {
					keys = ", its keys sealed by the passphrase"
				}
				fmt.Fprintf(a.out, "%s holds %d files, %s, made in %s%s\ncheck it with: yardbench backup verify %s\n", args[0], len(m.Files), volume(m.Bytes()), time.Since(began).Round(100*time.Millisecond), keys, args[0])
			})
		},
	}
	c.Flags().StringVar(&data, "data", "yardbench-data", "the service's data directory")
	c.Flags().StringVar(&file, "passphrase-file", "", "seal the keys by what is in this file; - reads it from the terminal or standard input")
	c.Flags().BoolVar(&without, "without-keys", false, "leave the keys out")
	c.MarkFlagsMutuallyExclusive("passphrase-file", "without-keys")
	c.MarkFlagsOneRequired("passphrase-file", "without-keys")
	return c
}

// keysOf adds the options that say how a backup's keys are to be had.
func (a serviceCommands) keysOf(c *cobra.Command) func() (backup.Keys, error) {
	var file, folder, service string
	c.Flags().StringVar(&file, "passphrase-file", "", "the passphrase of its keys is in this file; - reads it from the terminal or standard input")
	c.Flags().StringVar(&folder, "keys", "", "the keys are not in it but in this folder")
	c.Flags().StringVar(&service, "key-service", "", "the command that guards the key file, where one does; see serve")
	c.MarkFlagsMutuallyExclusive("passphrase-file", "keys")
	return func() (backup.Keys, error) {
		k := backup.Keys{Folder: folder}
		if words := strings.Fields(service); len(words) > 0 {
			k.Guard = vault.Command(words)
		}
		var err error
		k.Passphrase, err = a.passphrase(file, false)
		return k, err
	}
}

func (a serviceCommands) backupFromTrail() *cobra.Command {
	var at string
	c := &cobra.Command{
		Use: "from-trail TRAIL [FOLDER]", Short: "Make a backup of the records as they were at a moment, from a trail",
		Long:    "Make a backup, in a folder that is not there yet, from the folder that the service was told to follow its records at (serve --trail): as they were at a moment, to two seconds, or the newest that there is. Check it and put it back like any other. Logs and recordings are not in it. Without FOLDER it says which times the trail has.",
		Example: "  yardbench backup from-trail /mnt/second/trail\n  yardbench backup from-trail /mnt/second/trail /backups/before-the-slip --at 2026-03-14T09:26:00+01:00",
		Args:    cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				if at != "" {
					return usage{errors.New("say which FOLDER the backup is to be")}
				}
				spans, err := backup.Spans(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(spans, func() {
					t := a.table(a.out, "FROM", "TO", "SIZE")
					for _, s := range spans {
						t.row(s.From.Format(backup.Moment), s.To.Format(backup.Moment), volume(s.Bytes))
					}
					t.print()
				})
			}
			var when time.Time
			if at != "" {
				var err error
				if when, err = time.Parse(time.RFC3339, at); err != nil {
					return usage{fmt.Errorf("--at %q is no moment; write it like 2026-03-14T09:26:00+01:00", at)}
				}
			}
			m, err := backup.FromTrail(cmd.Context(), args[0], args[1], when)
			if err != nil {
				return err
			}
			return a.print(m, func() {
				check := "--passphrase-file FILE"
				if !m.Keys {
					check = "--keys FOLDER"
				}
				fmt.Fprintf(a.out, "%s holds the records as of %s\ncheck it with: yardbench backup verify %s %s\n", args[1], m.MadeAt.Format(backup.Moment), args[1], check)
			})
		},
	}
	c.Flags().StringVar(&at, "at", "", "the moment, like 2026-03-14T09:26:00+01:00 (default: the newest)")
	return c
}

func (a serviceCommands) verifyBackup() *cobra.Command {
	var keys func() (backup.Keys, error)
	c := &cobra.Command{
		Use: "verify FOLDER", Short: "Check that a backup is whole, and that its keys open what is sealed in it",
		Long:    "Check a backup: every file by its SHA-256, the records by SQLite's own check, the journal's chain, and with the passphrase, or with --keys, that the keys open every sealed value. Nothing of it is changed; it is looked through on a copy, in $TMPDIR.",
		Example: "  yardbench backup verify /backups/monday --passphrase-file /etc/yardbench/passphrase\n  yardbench backup verify /backups/tuesday --keys /safe/keys\n  yardbench backup verify /backups/tuesday",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			k, err := keys()
			if err != nil {
				return err
			}
			f, err := backup.Verify(cmd.Context(), args[0], k)
			if err != nil {
				return err
			}
			return a.print(f, func() { fmt.Fprintln(a.out, foundIn(f)) })
		},
	}
	keys = a.keysOf(c)
	return c
}

// foundIn says what a check found.
func foundIn(f backup.Found) string {
	opened := "whether the keys open what is sealed was not tried"
	if f.Opened > 0 {
		opened = fmt.Sprintf("the keys open all %d sealed values", f.Opened)
	}
	return fmt.Sprintf("it is whole: made %s by version %s, with %d workspaces of %d people; the records and the journal's chain are sound; %s", when(f.MadeAt), orUnknown(f.Version), f.Workspaces, f.People, opened)
}

func (a serviceCommands) restoreBackup() *cobra.Command {
	var data string
	var keys func() (backup.Keys, error)
	c := &cobra.Command{
		Use: "restore FOLDER", Short: "Put a backup into a data directory that is not there yet",
		Long: "Put a backup into a data directory that is not there yet, or is empty, once it was found to be whole and its keys to open what is sealed in it. Then start the service there once with --take-over: what the yard has and the records do not know stays until you have looked.\n\n" +
			"What was done since the backup is not in it: secrets, people and workspaces that came after are unknown, and those that went are there again.",
		Example: "  yardbench backup restore /backups/monday --data /var/lib/yardbench --passphrase-file /etc/yardbench/passphrase\n  yardbench serve --data /var/lib/yardbench --take-over",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			k, err := keys()
			if err != nil {
				return err
			}
			f, err := backup.Restore(cmd.Context(), args[0], data, k)
			if err != nil {
				return err
			}
			return a.print(f, func() {
				fmt.Fprintf(a.out, "%s\n%s holds it; %d sign-ins and links were ended, as some may have been since\n", foundIn(f), data, f.Ended)
				if f.Hold > 0 {
					fmt.Fprintf(a.out, "%d tokens of programs and keys for SSH hold, also those that were ended since: look through them\n", f.Hold)
				}
				fmt.Fprintf(a.out, "what was done since is not in it: close the accounts of who has left since\nstart it once with: yardbench serve --data %s --take-over\nthen see what came after it, and say what becomes of it: yardbench quarantine list\n", data)
			})
		},
	}
	c.Flags().StringVar(&data, "data", "", "the data directory to be")
	if err := c.MarkFlagRequired("data"); err != nil { // it is there: it was added above
		panic(err)
	}
	keys = a.keysOf(c)
	return c
}
