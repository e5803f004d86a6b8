package store

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"math"
	"strings"
	"time"

	"gorm.io/gorm"
)

// oldSeries is a row of the catalogue as it was up to 0012, with a column for each property.
type oldSeries struct {
	ID        uint32
	Path      string
	Kind      string
	Unit      string
	FreshFor  int64
	Wrap      float64
	Labels    string
	Sketch    bool
	States    string
	Curve     string
	Normal    string
	Every     int64
	Tiers     string
	Thinning  string
	ThinnedTo int64
	Thinned   int64
	Kept      int64
	Worst     float64
	Collected bool
	FirstSeen int64
	LastTime  int64
	LastValue float64
	Checksum  uint32
}

func sum0013(text []byte) uint32 {
	return crc32.Checksum(text, crc32.MakeTable(crc32.Castagnoli))
}

// matches reports whether the row is as it was written. Earlier programs made sums of -0 as -0.
func (r *oldSeries) matches() bool {
	return r.Checksum == r.sum(r.LastValue) || r.LastValue == 0 && r.Checksum == r.sum(math.Copysign(0, -1))
}

func (r *oldSeries) sum(lastValue float64) uint32 {
	text := fmt.Appendf(nil, "%d %q %q %q %d %x %q %t %t %d %d %x", r.ID, r.Path, r.Kind, r.Unit, r.FreshFor, r.Wrap,
		r.Labels, r.Sketch, r.Collected, r.FirstSeen, r.LastTime, lastValue)
	if r.States != "" { // rows from before states had names have none in their sum
		text = fmt.Appendf(text, " %q", r.States)
	}
	if r.Curve != "" || r.Normal != "" || r.Every != 0 { // nor have those from before these
		text = fmt.Appendf(text, " %q %q %d", r.Curve, r.Normal, r.Every)
	}
	if r.Tiers != "" {
		text = fmt.Appendf(text, " tiers %q", r.Tiers)
	}
	if r.Thinning != "" || r.ThinnedTo != 0 {
		text = fmt.Appendf(text, " thinning %q %d %d %d %x", r.Thinning, r.ThinnedTo, r.Thinned, r.Kept, r.Worst)
	}
	return sum0013(text)
}

// appendLatest adds to the latest values of a group.
func (r *oldSeries) appendLatest(out []byte) []byte {
	if out == nil {
		out = []byte{1, 0, 0, 0, 0}
	}
	var flags byte
	if r.Collected {
		flags |= 1
	}
	if r.ThinnedTo != 0 {
		flags |= 2
	}
	out = append(out, byte(r.ID), flags)
	out = binary.AppendVarint(out, r.FirstSeen)
	out = binary.AppendVarint(out, r.LastTime)
	out = binary.LittleEndian.AppendUint64(out, math.Float64bits(r.LastValue))
	if r.ThinnedTo != 0 {
		out = binary.AppendVarint(out, r.ThinnedTo)
		out = binary.AppendUvarint(out, uint64(r.Thinned))
		out = binary.AppendUvarint(out, uint64(r.Kept))
		out = binary.LittleEndian.AppendUint64(out, math.Float64bits(r.Worst))
	}
	return out
}

// definition0013 is what 0013 made of the columns. The versions had the names of its fields up to then.
type definition0013 struct {
	Path        string        `json:"path,omitempty"`
	Kind        string        `json:"kind"`
	Unit        string        `json:"unit"`
	FreshFor    time.Duration `json:"fresh_for"`
	Wrap        float64       `json:"wrap,omitempty"`
	Labels      string        `json:"labels,omitempty"`
	States      string        `json:"states,omitempty"`
	Calibration string        `json:"calibration,omitempty"`
	Normal      string        `json:"normal,omitempty"`
	Every       time.Duration `json:"every,omitempty"`
	Sketch      bool          `json:"sketch,omitempty"`
	Tiers       string        `json:"tiers,omitempty"`
	Thinning    string        `json:"thinning,omitempty"`
}

// joinProperties writes the properties of each series into one column, and what is known of values into
// rows of 256 series. The sum of a damaged row
// stays wrong, so that it is set aside when the store is opened.
func joinProperties(tx *gorm.DB) error {
	var rows []oldSeries
	if err := tx.Table("series").Order("id").Find(&rows).Error; err != nil {
		return err
	}
	groups := map[uint32][]byte{}
	for _, r := range rows {
		if r.matches() {
			groups[r.ID/256] = r.appendLatest(groups[r.ID/256])
		}
		text, err := json.Marshal(definition0013{
			Kind: r.Kind, Unit: r.Unit, FreshFor: time.Duration(r.FreshFor), Wrap: r.Wrap, Labels: r.Labels, States: r.States, Calibration: r.Curve,
			Normal: r.Normal, Every: time.Duration(r.Every), Sketch: r.Sketch, Tiers: r.Tiers, Thinning: r.Thinning,
		})
		if err != nil {
			return fmt.Errorf("series %d: %w", r.ID, err)
		}
		sum := sum0013(fmt.Appendf(nil, "%d %q %q %q", r.ID, r.Path, r.Kind, text))
		if !r.matches() {
			sum = ^sum
		}
		if err := tx.Exec("UPDATE series SET definition = ?, checksum = ? WHERE id = ?", string(text), sum, r.ID).Error; err != nil {
			return err
		}
	}
	for group, payload := range groups {
		binary.LittleEndian.PutUint32(payload[1:], sum0013(payload[5:]))
		if err := tx.Exec("INSERT INTO latest (id, payload) VALUES (?, ?)", group, payload).Error; err != nil {
			return err
		}
	}
	for _, column := range strings.Fields("unit fresh_for wrap labels sketch states curve normal every tiers thinning " +
		"thinned_to thinned kept worst collected first_seen last_time last_value") {
		if err := tx.Exec("ALTER TABLE series DROP COLUMN " + column).Error; err != nil {
			return err
		}
	}
	return nil
}

// renameInVersions gives the properties of versions the names that they have in the catalogue.
func renameInVersions(tx *gorm.DB) error {
	var rows []struct {
		ID         uint64
		Definition []byte
	}
	if err := tx.Table("versions").Select("id, definition").Find(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		var old struct {
			Path, Kind, Unit, Labels, States, Calibration, Normal, Tiers, Thinning string

			FreshFor, Every time.Duration
			Wrap            float64
			Sketch          bool
		}
		if json.Unmarshal(r.Definition, &old) != nil {
			continue // whoever asks for it is told
		}
		text, err := json.Marshal(definition0013{
			old.Path, old.Kind, old.Unit, old.FreshFor, old.Wrap, old.Labels, old.States, old.Calibration, old.Normal, old.Every, old.Sketch, old.Tiers, old.Thinning,
		})
		if err != nil {
			return fmt.Errorf("version %d: %w", r.ID, err)
		}
		if err := tx.Exec("UPDATE versions SET definition = ? WHERE id = ?", text, r.ID).Error; err != nil {
			return err
		}
	}
	return nil
}
