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
		Name: "certificate", Usage: "Create a self-signed certificate in a folder, or show the existing one",
		Description: "A service with tls: { self_signed: true } creates one in its data folder by itself. An mqtt_listener can use the\n" +
			"same files as cert and key.",
		Flags: []cli.Flag{
			sayFlag,
			&cli.StringFlag{Name: "dir", Required: true, Usage: "folder to work in"},
			&cli.StringSliceFlag{
				Name:  "host",
				Usage: "name or address the certificate is for, besides those of this machine; repeatable",
			},
		},
		Action: func(_ context.Context, cmd *cli.Command) error {
			dir := cmd.String("dir")
			own, err := certs.Own(dir, cmd.StringSlice("host"))
			if err != nil {
				return err
			}
			cert, key := filepath.Join(dir, certs.OwnCert), filepath.Join(dir, certs.OwnKey)
			return say(cmd, map[string]string{"cert": cert, "key": key, "fingerprint": own.Fingerprint()},
				fmt.Sprintf("cert: %s\nkey: %s\nFingerprint (SHA-256): %s", cert, key, own.Fingerprint()))
		},
	}
}
