package config

import "nexocumula/internal/config/shape"

// The shape of the file, as it is written. Everything that needs checking is text
// here; settings.go has what it becomes.

type file struct {
	Data    string       `yaml:"data"`
	Listen  string       `yaml:"listen"`
	Gateway *gatewayFile `yaml:"gateway"`
	Central *centralFile `yaml:"central"`
	Keep    []keepFile   `yaml:"keep"`
	GiveUp  string       `yaml:"give_up_unsent_after"`
	AwayFor string       `yaml:"away_for"`
	Queries queriesFile  `yaml:"queries"`
}

type keepFile struct {
	Select string `yaml:"select"`
	Tier   string `yaml:"tier"`
	For    string `yaml:"for"`
}

type queriesFile struct {
	MaxRows   *int   `yaml:"max_rows"`
	MaxSeries *int   `yaml:"max_series"`
	MaxTime   string `yaml:"max_time"`
}

type gatewayFile struct {
	Site    string       `yaml:"site"`
	Pace    paceFile     `yaml:"pace"`
	Series  []seriesFile `yaml:"series"`
	Sources []shape.Part `yaml:"sources"`
	Uplinks []uplinkFile `yaml:"uplinks"`
}

type paceFile struct {
	Messages string `yaml:"messages"`
	Polls    string `yaml:"polls"`
}

type seriesFile struct {
	Select   string             `yaml:"select"`
	Kind     string             `yaml:"kind"`
	Unit     string             `yaml:"unit"`
	Low      *float64           `yaml:"low"`
	High     *float64           `yaml:"high"`
	FreshFor string             `yaml:"fresh_for"`
	MaxAhead string             `yaml:"max_ahead"`
	Wrap     float64            `yaml:"wrap"`
	Labels   map[string]string  `yaml:"labels"`
	Sketch   bool               `yaml:"sketch"`
	States   map[string]float64 `yaml:"states"`
}

type uplinkFile struct {
	Name         string   `yaml:"name"`
	Address      string   `yaml:"address"`
	Tiers        []string `yaml:"tiers"`
	shape.Secret `yaml:",inline"`
}

type centralFile struct {
	Name    string       `yaml:"name"`
	Accept  []acceptFile `yaml:"accept"`
	Uplinks []uplinkFile `yaml:"uplinks"`
}

type acceptFile struct {
	Gateway      string   `yaml:"gateway"`
	Sites        []string `yaml:"sites"`
	shape.Secret `yaml:",inline"`
}
