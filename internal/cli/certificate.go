package cli

import (
	"context"
	"fmt"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/certs"
)

func certificateCommand() *cli.Command {
	return &cli.Command{
		Name: "certificate", Usage: "make a self-signed certificate in a folder, or show the one that is there",
		Description: "A service with tls: { self_signed: true } makes one in its data folder by itself. The same files can be named as\ncert and key of an mqtt_listener.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "dir", Required: true, Usage: "the folder, such as that of data:"},
			&cli.StringSliceFlag{Name: "name", Usage: "a name or address it is for, besides those of this machine; several times for several"},
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			dir := cmd.String("dir")
			own, err := certs.Own(dir, cmd.StringSlice("name"))
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.Root().Writer, "cert: %s\nkey: %s\nFingerprint (SHA-256): %s\n", filepath.Join(dir, certs.OwnCert), filepath.Join(dir, certs.OwnKey), own.Fingerprint())
			return nil
		},
	}
}
