package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/backup"
	"nexocumula/internal/config"
	"nexocumula/internal/kinds"
	texts "nexocumula/internal/plain"
	"nexocumula/internal/service"
)

func backupCommand() *cli.Command {
	return &cli.Command{
		Name:      "backup",
		Usage:     "Copy what a service keeps, while it runs, into a folder, a file or a stream",
		ArgsUsage: "TARGET",
		Description: "Run it on the service's machine, as the account the service runs as. TARGET is a folder, in which only what is new since the copy\n" +
			"before is written; a file whose name ends in .tar; or - for standard output. The store is compared with its checksums as it is copied.\n" +
			"Secrets are left out, unless --recipient says for whom they are encrypted. Exit code 1: the copy was made, of a store with faults.",
		Flags: []cli.Flag{
			configFlag(), rateFlag,
			&cli.StringSliceFlag{Name: "recipient", Usage: "public key of age, such as age1…, for which the service's secrets are encrypted and copied too; repeatable"},
			&cli.IntFlag{Name: "keep", Usage: "of a folder, so many copies stay, the newest; default: all", Validator: atLeastOne},
			sayFlag,
		},
		Action: makeBackup,
	}
}

func atLeastOne(n int) error {
	if n < 1 {
		return fmt.Errorf("%d: use a number from 1", n)
	}
	return nil
}

// madeBackup is the answer of backup.
type madeBackup struct {
	backup.Manifest
	Size    int64        `json:"bytes"`
	Written int64        `json:"written"`
	Found   []foundFault `json:"found"`
}

func makeBackup(ctx context.Context, cmd *cli.Command) error {
	settings, err := config.Load(cmd.String("config"), kinds.All)
	if err != nil {
		return err
	}
	recipients, err := backup.Recipients(cmd.StringSlice("recipient"))
	if err != nil {
		return usageError{err, cmd}
	}
	var bytes int64
	read := reading{to: aside(cmd), told: time.Now(), bytes: &bytes, limit: limitOf(cmd)}
	wanted := service.BackupOf(settings, cmd.Root().Version, time.Now(), logger(cmd))
	wanted.Keep, wanted.For, wanted.Read = cmd.Int("keep"), recipients, read.read
	made, err := backupInto(ctx, cmd, wanted)
	if err != nil {
		return err
	}
	out := madeBackup{Manifest: made.Manifest, Size: made.Bytes(), Written: made.Written, Found: []foundFault{}}
	out.Files = nil
	for _, f := range made.Found {
		out.Found = append(out.Found, faultOf(f))
	}
	if cmd.Args().First() != "-" {
		text := fmt.Sprintf("Copied %s as of %s, %s; %s are new.", made.Site, made.Taken.Format(time.RFC3339), megabytes(out.Size), megabytes(out.Written))
		if err := say(cmd, out, text); err != nil {
			return err
		}
	}
	if len(out.Found) > 0 {
		return fmt.Errorf("the copy was made, but the store has %d faults; nexocumula verify lists them", len(out.Found))
	}
	return nil
}

func backupInto(ctx context.Context, cmd *cli.Command, w backup.Wanted) (made backup.Made, err error) {
	target := cmd.Args().First()
	if target == "-" {
		if isTerminal(cmd.Root().Writer) {
			return made, usageError{errors.New("a backup is no text for a terminal; send it into a file or another program"), cmd}
		}
		return backup.IntoStream(ctx, texts.Bare(cmd.Root().Writer), w)
	}
	if !strings.HasSuffix(target, ".tar") {
		return backup.IntoFolder(ctx, target, w)
	}
	part := target + ".part"
	file, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return made, fmt.Errorf("writing the backup: %w", err)
	}
	made, err = backup.IntoStream(ctx, file, w)
	if err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err == nil {
		err = os.Rename(part, target)
	}
	if err != nil {
		err = errors.Join(err, os.Remove(part))
	}
	return made, err
}

func restoreCommand() *cli.Command {
	return &cli.Command{
		Name:      "restore",
		Usage:     "List the copies that nexocumula backup made, or put one back into an empty folder",
		ArgsUsage: "BACKUP [FOLDER]",
		Description: "BACKUP is a folder of backups, a file whose name ends in .tar, or - for standard input. Without FOLDER the copies in a folder are listed.\n" +
			"FOLDER is where data: of a configuration points; the configuration as it was is put there too. A gateway that was restored sends\n" +
			"what the central lacks, and a central that was restored gets from its gateways what they still keep.",
		Flags: []cli.Flag{
			&cli.TimestampFlag{Name: "as-of", Usage: "the newest copy taken by then, such as 2026-03-01T08:00:00Z; default: the newest", Config: cli.TimestampConfig{Layouts: []string{time.RFC3339, "2006-01-02"}}},
			&cli.StringFlag{Name: "identity", Usage: "file with the private key of age for which the secrets were encrypted; without it they are left out"},
			outputFlag, zoneFlag,
		},
		Action: restoreBackup,
	}
}

func restoreBackup(ctx context.Context, cmd *cli.Command) error {
	from, into := cmd.Args().Get(0), cmd.Args().Get(1)
	stream := from == "-" || strings.HasSuffix(from, ".tar")
	if into == "" && stream {
		return usageError{errors.New("a file or stream has one copy; name the FOLDER that it is put into"), cmd}
	}
	if into == "" {
		return listBackups(ctx, cmd, from)
	}
	how := backup.Restoring{AsOf: cmd.Timestamp("as-of")}
	if path := cmd.String("identity"); path != "" {
		var err error
		if how.Identities, err = backup.Identities(path); err != nil {
			return err
		}
	}
	restored, err := restoreFrom(ctx, cmd, from, into, how)
	if err != nil {
		return err
	}
	text := fmt.Sprintf("Restored %s as of %s into %s, %s.", restored.Site, restored.Taken.Format(time.RFC3339), into, megabytes(restored.Bytes()))
	if restored.Secrets && len(how.Identities) == 0 {
		text += "\nIts secrets are left out: give --identity for them."
	}
	if restored.Faults > 0 {
		text += fmt.Sprintf("\nThe store had %d faults when it was copied; nexocumula verify lists them.", restored.Faults)
	}
	if cmd.String("output") == "json" {
		restored.Files = nil
		return show(cmd, restored, grid{})
	}
	_, err = fmt.Fprintln(cmd.Root().Writer, text)
	return err
}

func restoreFrom(ctx context.Context, cmd *cli.Command, from, into string, how backup.Restoring) (backup.Manifest, error) {
	if from == "-" {
		return backup.FromStream(ctx, cmd.Root().Reader, into, how)
	}
	if !strings.HasSuffix(from, ".tar") {
		return backup.FromFolder(ctx, from, into, how)
	}
	file, err := os.Open(from)
	if err != nil {
		return backup.Manifest{}, err
	}
	defer file.Close()
	return backup.FromStream(ctx, file, into, how)
}

// listedBackup is a copy in the answer of restore without a folder.
type listedBackup struct {
	backup.Manifest
	Size  int64  `json:"bytes"`
	Whole bool   `json:"whole"`
	Why   string `json:"why"`
}

func listBackups(ctx context.Context, cmd *cli.Command, dir string) error {
	all, bad, err := backup.List(dir)
	if err != nil {
		return err
	}
	out := []listedBackup{}
	g := grid{
		columns: []column{{name: "taken"}, {name: "site"}, {name: "version"}, {name: "MB", right: true}, {name: "secrets"}, {name: "faults", right: true}, {name: "state"}},
		empty:   "There is no backup in " + dir + ".",
	}
	for _, m := range all {
		one := listedBackup{Manifest: m, Size: m.Bytes(), Whole: true}
		if err := backup.Check(ctx, dir, m); err != nil {
			if ctx.Err() != nil {
				return err
			}
			one.Whole, one.Why = false, err.Error()
		}
		one.Files = nil
		out = append(out, one)
		g.rows = append(g.rows, []cell{
			momentOr(&m.Taken, ""), plain(m.Site), plain(m.Version), plain(fmt.Sprintf("%.1f", float64(one.Size)/1e6)), yesNo(m.Secrets, "yes", "no"),
			count(m.Faults), yesNo(one.Whole, "whole", "DAMAGED"),
		})
		if !one.Whole {
			g.notes = append(g.notes, m.Taken.Format(time.RFC3339)+": "+one.Why)
		}
	}
	for _, err := range bad {
		g.notes = append(g.notes, err.Error())
	}
	if err := show(cmd, out, g); err != nil {
		return err
	}
	for _, one := range out {
		if !one.Whole {
			return errors.New("not all backups are whole")
		}
	}
	return errors.Join(bad...)
}
