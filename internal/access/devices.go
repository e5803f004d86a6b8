package access

import (
	"encoding/base64"
	"encoding/json"
	"time"
)

// After a login a device receives a proof, and shows it at the next login. The proof lets nobody in, but wrong
// passwords that others give for the account do not keep the device waiting. The proof is encrypted with
// the book's key, so the book stores nothing about it.

type deviceProof struct {
	Account string `json:"account"`
	Since   int64  `json:"since"` // seconds since 1970
	Handle  []byte `json:"handle"`
}

// DeviceLasts is how long a proof counts.
const DeviceLasts = 180 * 24 * time.Hour

const sealedDevice = "device"

// device makes the proof for an account; "" where that cannot be done.
func (b *Book) device(a *account) string {
	text, err := json.Marshal(deviceProof{a.row.Name, b.now().Unix(), a.row.Handle})
	if err != nil {
		return ""
	}
	sealed, err := b.key.seal(text, sealedDevice)
	if err != nil {
		return ""
	}
	return base64.RawURLEncoding.EncodeToString(sealed)
}

// knowsDevice reports whether a proof is one for an account.
func (b *Book) knowsDevice(proof string, of *account) bool {
	if of == nil {
		return false
	}
	sealed, err := base64.RawURLEncoding.DecodeString(proof)
	if err != nil || len(sealed) == 0 {
		return false
	}
	text, err := b.key.open(sealed, sealedDevice)
	var p deviceProof
	if err != nil || json.Unmarshal(text, &p) != nil || p.Account != of.row.Name {
		return false
	}
	since := b.now().Unix() - p.Since
	return string(of.row.Handle) == string(p.Handle) && since >= 0 && since < int64(DeviceLasts/time.Second)
}
