package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/internal/core/span"
	"nexocumula/internal/sim"
)

func simulateCommand() *cli.Command {
	seed := &cli.Uint64Flag{Name: "seed", Value: 1, Usage: "seed of the weather"}
	listen := func(port string) *cli.StringFlag {
		return &cli.StringFlag{Name: "listen", Value: "127.0.0.1:" + port, Usage: "host:port to listen at"}
	}
	to := &cli.StringFlag{Name: "broker", Value: "tcp://127.0.0.1:1883", Usage: "address of the MQTT broker to publish to"}
	every := &cli.StringFlag{Name: "every", Value: "5s", Usage: "time from one to the next"}
	return &cli.Command{
		Name:  "simulate",
		Usage: "Run one of the demo's simulated stations by itself",
		Commands: []*cli.Command{
			{
				Name: "pump-panel", Usage: "Simulate a pump panel on Modbus TCP, unit 1", Flags: []cli.Flag{seed, listen("5020")},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return simulateDevice(ctx, cmd, "the pump panel", sim.PumpPanel)
				},
			},
			{
				Name: "probes", Usage: "Simulate oxygen probes (units 1 to 6) and an aerator switch box (unit 10) on a serial line behind a converter (rtu+tcp)", Flags: []cli.Flag{seed, listen("5021")},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return simulateDevice(ctx, cmd, "the probes", sim.Probes)
				},
			},
			{
				Name: "lake", Usage: "Simulate four buoys and a mast that publish over MQTT", Flags: []cli.Flag{seed, to, every},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return simulatePublisher(ctx, cmd, "four buoys and a mast", sim.LakeStations)
				},
			},
			{
				Name: "silo-scale", Usage: "Simulate a feed scale that publishes over MQTT", Flags: []cli.Flag{seed, to, every},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return simulatePublisher(ctx, cmd, "the feed scale", sim.SiloScale)
				},
			},
			{
				Name: "gate", Usage: "Simulate the control of an inlet gate that speaks Sparkplug B", Flags: []cli.Flag{seed, to, every},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					return simulatePublisher(ctx, cmd, "an inlet's gate", sim.InletGate)
				},
			},
			{
				Name: "broker", Usage: "Run an open MQTT broker", Flags: []cli.Flag{listen("1884")},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					b, err := sim.StartSiteBroker(cmd.String("listen"))
					if err != nil {
						return err
					}
					fmt.Fprintf(cmd.Root().Writer, "A broker listens at %s until Ctrl-C.\n", b.Address)
					<-ctx.Done()
					return b.Close()
				},
			},
			{
				Name: "provider", Usage: "Simulate an OpenID Connect provider that asks for no password; its client is nexocumula",
				Flags: []cli.Flag{
					listen("9001"),
					&cli.StringFlag{
						Name:     "secret-file",
						Required: true,
						Usage:    "file with the password of the other end",
					},
				},
				Action: func(ctx context.Context, cmd *cli.Command) error {
					shared, err := tokenIn(cmd.String("secret-file"))
					if err != nil {
						return err
					}
					p, err := sim.StartProvider(cmd.String("listen"), "nexocumula", shared, sim.Office)
					if err != nil {
						return err
					}
					fmt.Fprintf(cmd.Root().Writer, "A provider is at %s until Ctrl-C.\n", p.Issuer)
					<-ctx.Done()
					return p.Close()
				},
			},
		},
	}
}

func simulateDevice(ctx context.Context, cmd *cli.Command, what string, start func(sim.Field, string) (*sim.Device, error)) error {
	d, err := start(sim.Field{Seed: cmd.Uint64("seed")}, cmd.String("listen"))
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.Root().Writer, "Simulating %s at %s until Ctrl-C.\n", what, d.Address)
	<-ctx.Done()
	fmt.Fprintf(cmd.Root().Writer, "Answered %d requests.\n", d.Answered.Load())
	return d.Close()
}

func simulatePublisher(ctx context.Context, cmd *cli.Command, what string,
	start func(context.Context, sim.Field, string, time.Duration) *sim.Publisher) error {
	every, err := span.Parse(cmd.String("every"))
	if err != nil {
		return usage("--every: %v", err)
	}
	p := start(ctx, sim.Field{Seed: cmd.Uint64("seed")}, cmd.String("broker"), every)
	fmt.Fprintf(cmd.Root().Writer, "Simulating %s, publishing to %s until Ctrl-C.\n", what, cmd.String("broker"))
	<-ctx.Done()
	p.Close()
	fmt.Fprintf(cmd.Root().Writer, "Sent %d messages; %d were acknowledged.\n", p.Sent.Load(), p.Acked.Load())
	return nil
}
