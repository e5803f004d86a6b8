package cli

import (
	"io"
	"os"

	"github.com/urfave/cli/v3"
)

// stdin is the name of a file that stands for standard input.
const stdin = "-"

func opened(cmd *cli.Command, file string) (io.ReadCloser, error) {
	if file == stdin {
		return io.NopCloser(cmd.Root().Reader), nil
	}
	return os.Open(file)
}

func contentOf(cmd *cli.Command, file string) ([]byte, error) {
	from, err := opened(cmd, file)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	return io.ReadAll(from)
}

// appendToFlag and writeFlag are of commands that print lines for a configuration.
var (
	appendToFlag = &cli.StringFlag{
		Name: "append-to", Usage: "configuration to show the change of, or with --write to change, by the printed lines",
	}
	writeFlag = &cli.BoolFlag{Name: "write", Usage: "with --append-to, write the file instead of showing the difference"}
)
