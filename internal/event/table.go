package event

import "log/slog"

// The events, by name. docs/operating.md lists them for people.
var (
	FirstCodeFailed    = Event{"access.code.failed", slog.LevelError, "no code for the first administrator could be made; nexocumula recover makes one", []string{"error"}}
	AccessDamaged      = Event{"access.damaged", slog.LevelError, "the accounts are damaged and were set aside; the service goes on without any", []string{"file", "error"}}
	SessionKept        = Event{"access.session.kept", slog.LevelError, "a session that is over could not be removed", []string{"account", "error"}}
	AccessUnusable     = Event{"access.unusable", slog.LevelError, "a part of the accounts cannot be used", []string{"error"}}
	AccessUnwritten    = Event{"access.unwritten", slog.LevelError, "a change of accounts could not be written", []string{"path", "error"}}
	AccessUseUnwritten = Event{"access.use.unwritten", slog.LevelError, "when sessions and tokens were used last could not be written", []string{"error"}}
	Audited            = Event{"audit", slog.LevelInfo, "somebody did something that is in the audit", []string{"id", "who", "from", "action", "target", "outcome", "sum"}}
	Refused            = Event{"audit.refused", slog.LevelWarn, "somebody was refused; it is in the audit", []string{"id", "who", "from", "action", "target", "outcome", "sum"}}
	AuditUndropped     = Event{"audit.undropped", slog.LevelError, "old entries of the audit could not be dropped", []string{"error"}}
	AuditUnwritten     = Event{"audit.unwritten", slog.LevelError, "the audit could not be written", []string{"who", "action", "target", "outcome", "error"}}
	BackupFailed       = Event{"backup.failed", slog.LevelError, "a backup could not be made; it is tried again", []string{"folder", "error"}}
	BackupMade         = Event{"backup.made", slog.LevelInfo, "a backup was made", []string{"folder", "taken", "bytes", "written", "faults"}}
	BrokerHangs        = Event{"broker.hangs", slog.LevelError, "the client of the broker hangs; another takes its place", []string{"address"}}
	BrokerLost         = Event{"broker.lost", slog.LevelWarn, "connection to the broker lost; reconnecting", []string{"address", "error"}}
	BrokerRefused      = Event{"broker.refused", slog.LevelError, "the broker refuses a subscription", []string{"topic", "code"}}
	BrokerUnasked      = Event{"broker.unasked", slog.LevelError, "the broker could not be asked for the topics", []string{"error"}}
	ClockDoubt         = Event{"clock.doubt", slog.LevelError, "nothing is dropped for its age while the clock is in doubt", []string{"clock"}}
	DeviceSilent       = Event{"device.silent", slog.LevelWarn, "a device or its line does not answer; it is tried again", []string{"what", "error"}}
	DiscoverFull       = Event{"discover.full", slog.LevelWarn, "no more series are found by a rule; readings of others are rejected", []string{"select", "most", "first"}}
	GapsUndropped      = Event{"gaps.undropped", slog.LevelError, "records of old gaps could not be dropped", []string{"error"}}
	GapsUnkept         = Event{"gaps.unkept", slog.LevelError, "silences of series could not be recorded; they are looked for again", []string{"error"}}
	RequestFailed      = Event{"http.failed", slog.LevelError, "a request failed inside", []string{"path", "cause"}}
	AnswerUnfinished   = Event{"http.unfinished", slog.LevelError, "an answer could not be finished", []string{"path", "error"}}
	Dropped            = Event{"keep.dropped", slog.LevelInfo, "rows older than they are kept were dropped", []string{"series", "tier", "kept", "rows"}}
	DropFailed         = Event{"keep.failed", slog.LevelError, "old rows could not be dropped", []string{"series", "tier", "error"}}
	LinkDown           = Event{"link.down", slog.LevelWarn, "a link, a source or a gateway is down or silent; what it carries waits", []string{"link", "since", "reason"}}
	LinkUp             = Event{"link.up", slog.LevelInfo, "a link, a source or a gateway is up again", []string{"link", "after"}}
	HistoryUnkept      = Event{"links.unkept", slog.LevelWarn, "the history of links cannot be kept", []string{"error"}}
	LearnedLost        = Event{"modbus.learned.lost", slog.LevelWarn, "what was learned of the devices cannot be read; it is learned again", []string{"error"}}
	LearnedUnkept      = Event{"modbus.learned.unkept", slog.LevelWarn, "what was learned of the devices cannot be kept", []string{"error"}}
	ProviderFailed     = Event{"provider.failed", slog.LevelError, "the provider does not answer as a provider does", []string{"provider", "issuer", "error"}}
	ProviderUntrusted  = Event{"provider.untrusted", slog.LevelError, "what the provider says of somebody cannot be trusted", []string{"provider", "error"}}
	Reconciled         = Event{"reconcile.done", slog.LevelInfo, "what an uplink has sent was compared with what there is at the other end", []string{"uplink", "found"}}
	ReconcileFailed    = Event{"reconcile.failed", slog.LevelWarn, "what an uplink has sent could not be compared", []string{"uplink", "error"}}
	Reloaded           = Event{"reload.done", slog.LevelInfo, "the configuration was read again", []string{"applied", "restart"}}
	ReloadRefused      = Event{"reload.refused", slog.LevelError, "the configuration is not good; everything stays as it is", []string{"error"}}
	RowsRemoved        = Event{"removal.done", slog.LevelInfo, "what was removed was taken out of the store", []string{"series", "from", "to", "readings", "summaries", "who"}}
	RemovalFailed      = Event{"removal.failed", slog.LevelError, "what was removed could not be taken out of the store yet; it is tried again", []string{"error"}}
	Repaired           = Event{"repair.done", slog.LevelInfo, "damaged rows were made again", []string{"series", "tier", "from", "to", "rows"}}
	RepairFailed       = Event{"repair.failed", slog.LevelError, "the store could not be looked through or repaired; it is tried again", []string{"error"}}
	FaultFound         = Event{"repair.found", slog.LevelError, "a look through the store found something that is not as it was written", []string{"place", "series", "tier", "rows", "error"}}
	NotRepaired        = Event{"repair.given_up", slog.LevelError, "damaged rows could not be made again; there is a gap", []string{"series", "tier", "from", "to", "rows"}}
	RequestEnded       = Event{"request.ended", slog.LevelInfo, "what a central asked of a gateway is over", []string{"request", "kind", "site", "state", "detail"}}
	RequestTaken       = Event{"request.taken", slog.LevelInfo, "a central asks something of this service, or of a gateway below it", []string{"request", "kind", "site", "author", "uplink"}}
	ListenFailed       = Event{"request.unheard", slog.LevelDebug, "whether a central asks something could not be heard; the next envelope brings it", []string{"error"}}
	RequestUnread      = Event{"request.unread", slog.LevelWarn, "what a central asks cannot be read", []string{"error"}}
	RequestsFailed     = Event{"requests.failed", slog.LevelError, "what a central asked could not be brought on; it is tried again", []string{"error"}}
	RoomFailed         = Event{"room.failed", slog.LevelError, "room could not be made on the disk; it is tried again", []string{"error"}}
	RoomMade           = Event{"room.made", slog.LevelWarn, "rows were dropped to make room on the disk, and recorded as gaps", []string{"tier", "before", "rows", "unsent"}}
	RulesFailed        = Event{"rules.failed", slog.LevelError, "definitions of series could not be brought up to date; trying again", []string{"error"}}
	KindKept           = Event{"series.kind.kept", slog.LevelWarn, "a series keeps its definition: it was recorded as another kind", []string{"series", "recorded", "wanted"}}
	LabelsLost         = Event{"series.labels.lost", slog.LevelError, "which labels messages gave series cannot be read; they come with the next messages", []string{"error"}}
	LabelsTooMany      = Event{"series.labels.many", slog.LevelWarn, "what messages say about a series is left out: with the labels of its rule it is too much", []string{"series", "error"}}
	Crashed            = Event{"service.crashed", slog.LevelError, "the run before this one crashed; the report has its last lines and stacks", []string{"why", "report"}}
	Cut                = Event{"service.cut", slog.LevelWarn, "the run before this one was killed, or the power failed", []string{}}
	ReportUnkept       = Event{"service.report.unkept", slog.LevelWarn, "a crash of this run would leave no report", []string{"error"}}
	Started            = Event{"service.started", slog.LevelInfo, "the service began", []string{"version", "configuration", "sum", "address"}}
	Stopped            = Event{"service.stopped", slog.LevelInfo, "the service ended", []string{"version", "configuration", "sum"}}
	Stuck              = Event{"service.stuck", slog.LevelError, "the service does not get on; systemd's watchdog is not told that it lives", []string{"error"}}
	SupervisorUnheard  = Event{"service.systemd.unheard", slog.LevelWarn, "systemd could not be told how the service stands", []string{"error"}}
	SketchLeftOut      = Event{"sketch.left_out", slog.LevelWarn, "a reading does not go into its sketch", []string{"series", "value", "error"}}
	SourceFailed       = Event{"source.failed", slog.LevelError, "a source cannot run; it is tried again", []string{"source", "error"}}
	StoreIncomplete    = Event{"store.incomplete", slog.LevelError, "the store is not complete", []string{"missing"}}
	LatestFound        = Event{"store.latest.found", slog.LevelInfo, "the latest values of series were damaged, and were found again", []string{"series"}}
	OrphansFound       = Event{"store.orphans.found", slog.LevelInfo, "rows of a series whose definition had been damaged are part of it again", []string{"series"}}
	PagesKept          = Event{"store.pages.kept", slog.LevelError, "free pages could not be given back", []string{"error"}}
	RowSetAside        = Event{"store.row.aside", slog.LevelError, "a damaged row of the store is set aside", []string{"table", "id", "series", "rows", "error"}}
	SealFailed         = Event{"store.seal.failed", slog.LevelError, "the journal could not be sealed; it goes on growing until that works", []string{"error"}}
	SpaceUnkept        = Event{"store.space.unkept", slog.LevelWarn, "how the disk fills could not be kept; it is measured again", []string{"error"}}
	StoreUnwritten     = Event{"store.unwritten", slog.LevelError, "the store cannot be written; trying again", []string{"error", "in"}}
	SummariesFailed    = Event{"summaries.failed", slog.LevelError, "summaries could not be made; trying again", []string{"error"}}
	CoverageUnsure     = Event{"summaries.unsure", slog.LevelError, "after a late reading the next window's coverage may be wrong", []string{"series", "error"}}
	ThinningUnknown    = Event{"thinning.unknown", slog.LevelError, "late readings are taken, though it is not known whether those beside them were thinned", []string{"series", "error"}}
	TiersBegun         = Event{"tiers.begun", slog.LevelInfo, "series get other tiers, made from what there is", []string{"series"}}
	TiersDone          = Event{"tiers.done", slog.LevelInfo, "all series have the tiers that are wanted", []string{}}
	TierFailed         = Event{"tiers.failed", slog.LevelError, "a tier could not be made; trying again", []string{"error"}}
	TiersKept          = Event{"tiers.kept", slog.LevelError, "a series keeps its tiers: readings of it were thinned, and there is no tier that the new ones could be made of", []string{"series", "has", "wanted"}}
	CredentialKept     = Event{"uplink.credential.kept", slog.LevelWarn, "the credential could not be renewed; the one there is still counts", []string{"error"}}
	CredentialRenewed  = Event{"uplink.credential.renewed", slog.LevelInfo, "the credential was renewed", []string{}}
	GivenUp            = Event{"uplink.given_up", slog.LevelError, "summaries were dropped before they could be sent, as the configuration has it", []string{"uplink", "series", "summaries"}}
	MarksDamaged       = Event{"uplink.marks.damaged", slog.LevelError, "saved marks are damaged; everything is sent again", []string{"uplink", "error"}}
	RecordRefused      = Event{"uplink.record.refused", slog.LevelError, "the central refuses a record; it stays here, and is sent again with everything", []string{"kind", "record", "reason"}}
	Refill             = Event{"uplink.refill", slog.LevelWarn, "the central may not have all that it had acknowledged; sending everything again", []string{"why"}}
	SeriesRefused      = Event{"uplink.series.refused", slog.LevelError, "the central refuses a series; the others go on", []string{"series", "reason"}}
	SeriesUnread       = Event{"uplink.series.unread", slog.LevelError, "the central cannot read a series; the others go on", []string{"series", "reason"}}
)

// All are the events, by name.
var All = []Event{
	FirstCodeFailed,
	AccessDamaged,
	SessionKept,
	AccessUnusable,
	AccessUnwritten,
	AccessUseUnwritten,
	Audited,
	Refused,
	AuditUndropped,
	AuditUnwritten,
	BackupFailed,
	BackupMade,
	BrokerHangs,
	BrokerLost,
	BrokerRefused,
	BrokerUnasked,
	ClockDoubt,
	DeviceSilent,
	DiscoverFull,
	GapsUndropped,
	GapsUnkept,
	RequestFailed,
	AnswerUnfinished,
	Dropped,
	DropFailed,
	LinkDown,
	LinkUp,
	HistoryUnkept,
	LearnedLost,
	LearnedUnkept,
	ProviderFailed,
	ProviderUntrusted,
	Reconciled,
	ReconcileFailed,
	Reloaded,
	ReloadRefused,
	RowsRemoved,
	RemovalFailed,
	Repaired,
	RepairFailed,
	FaultFound,
	NotRepaired,
	RequestEnded,
	RequestTaken,
	ListenFailed,
	RequestUnread,
	RequestsFailed,
	RoomFailed,
	RoomMade,
	RulesFailed,
	KindKept,
	LabelsLost,
	LabelsTooMany,
	Crashed,
	Cut,
	ReportUnkept,
	Started,
	Stopped,
	Stuck,
	SupervisorUnheard,
	SketchLeftOut,
	SourceFailed,
	StoreIncomplete,
	LatestFound,
	OrphansFound,
	PagesKept,
	RowSetAside,
	SealFailed,
	SpaceUnkept,
	StoreUnwritten,
	SummariesFailed,
	CoverageUnsure,
	ThinningUnknown,
	TiersBegun,
	TiersDone,
	TierFailed,
	TiersKept,
	CredentialKept,
	CredentialRenewed,
	GivenUp,
	MarksDamaged,
	RecordRefused,
	Refill,
	SeriesRefused,
	SeriesUnread,
}
