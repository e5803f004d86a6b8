package config

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
	Sources []sourceFile `yaml:"sources"`
	Uplinks []uplinkFile `yaml:"uplinks"`
}

type paceFile struct {
	Messages string `yaml:"messages"`
	Polls    string `yaml:"polls"`
}

type seriesFile struct {
	Select   string            `yaml:"select"`
	Kind     string            `yaml:"kind"`
	Unit     string            `yaml:"unit"`
	Low      *float64          `yaml:"low"`
	High     *float64          `yaml:"high"`
	FreshFor string            `yaml:"fresh_for"`
	MaxAhead string            `yaml:"max_ahead"`
	Wrap     float64           `yaml:"wrap"`
	Labels   map[string]string `yaml:"labels"`
	Sketch   bool              `yaml:"sketch"`
}

type sourceFile struct {
	Name     string        `yaml:"name"`
	Listener *listenerFile `yaml:"mqtt_listener"`
	Broker   *brokerFile   `yaml:"mqtt_broker"`
	Modbus   *modbusFile   `yaml:"modbus"`
}

type listenerFile struct {
	Address    string        `yaml:"address"`
	MaxPayload int           `yaml:"max_payload"`
	MaxClients int           `yaml:"max_clients"`
	Messages   []messageFile `yaml:"messages"`
}

type brokerFile struct {
	Address  string        `yaml:"address"`
	ClientID string        `yaml:"client_id"`
	User     string        `yaml:"user"`
	Messages []messageFile `yaml:"messages"`
	Secret   `yaml:",inline"`
}

type messageFile struct {
	Topic    string      `yaml:"topic"`
	Payload  string      `yaml:"payload"`
	Time     string      `yaml:"time"`
	TimeForm string      `yaml:"time_form"`
	Series   string      `yaml:"series"`
	Scale    *float64    `yaml:"scale"`
	Offset   float64     `yaml:"offset"`
	Values   []valueFile `yaml:"values"`
}

type valueFile struct {
	At     string   `yaml:"at"`
	Series string   `yaml:"series"`
	Scale  *float64 `yaml:"scale"`
	Offset float64  `yaml:"offset"`
}

type modbusFile struct {
	Address   string         `yaml:"address"`
	Unit      int            `yaml:"unit"`
	Every     string         `yaml:"every"`
	Timeout   string         `yaml:"timeout"`
	WordOrder string         `yaml:"word_order"`
	Registers []registerFile `yaml:"registers"`
}

type registerFile struct {
	Table     string   `yaml:"table"`
	Address   *int     `yaml:"address"`
	Type      string   `yaml:"type"`
	WordOrder string   `yaml:"word_order"`
	Unit      *int     `yaml:"unit"`
	Series    string   `yaml:"series"`
	Scale     *float64 `yaml:"scale"`
	Offset    float64  `yaml:"offset"`
}

type uplinkFile struct {
	Name    string   `yaml:"name"`
	Address string   `yaml:"address"`
	Tiers   []string `yaml:"tiers"`
	Secret  `yaml:",inline"`
}

type centralFile struct {
	Name    string       `yaml:"name"`
	Accept  []acceptFile `yaml:"accept"`
	Uplinks []uplinkFile `yaml:"uplinks"`
}

type acceptFile struct {
	Gateway string   `yaml:"gateway"`
	Sites   []string `yaml:"sites"`
	Secret  `yaml:",inline"`
}

// Secret says where a secret is; it is never in the file itself.
type Secret struct {
	File string `yaml:"secret_file"`
	Env  string `yaml:"secret_env"`
}
