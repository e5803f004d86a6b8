// Package secret is what keeps secrets: who may read their files, and how passwords are
// hashed.
package secret

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"
)

// Cost is the work of computing a hash, and so of every guess.
type Cost struct {
	Passes uint32
	Memory uint32 // KiB
}

// RFC 9106 allows any parameters. A device connects often, to a small board; a person logs
// in a few times a day.
var (
	OfDevices = Cost{2, 19 * 1024} // the second of OWASP's for argon2id
	OfPeople  = Cost{7, 19 * 1024}
)

const mostArgonMemory = 256 * 1024 // KiB

// HashPassword returns the hash of a password: argon2id, in the PHC string format.
func HashPassword(password []byte, c Cost) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	sum := argon2.IDKey(password, salt, c.Passes, c.Memory, 1, 32)
	text := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, c.Memory, c.Passes, text(salt), text(sum))
}

type argonHash struct {
	memory, time uint32
	lanes        uint8
	salt, sum    []byte
}

// CheckHash refuses what is no hash of a password.
func CheckHash(hash string) error {
	_, err := parseHash(hash)
	return err
}

// parseHash reads a hash; nil is one of bcrypt.
func parseHash(hash string) (*argonHash, error) {
	if strings.HasPrefix(hash, "$2") {
		_, err := bcrypt.Cost([]byte(hash))
		return nil, err
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return nil, errors.New("the hash is neither of argon2id ($argon2id$…) nor of bcrypt ($2…)")
	}
	var h argonHash
	var version int
	_, err := fmt.Sscanf(parts[2]+" "+parts[3], "v=%d m=%d,t=%d,p=%d", &version, &h.memory, &h.time, &h.lanes)
	if err == nil {
		h.salt, err = base64.RawStdEncoding.DecodeString(parts[4])
	}
	if err == nil {
		h.sum, err = base64.RawStdEncoding.DecodeString(parts[5])
	}
	if err != nil || version != argon2.Version || h.memory < 8 || h.memory > mostArgonMemory || h.time < 1 ||
		h.time > 100 || h.lanes < 1 || len(h.salt) < 8 || len(h.sum) < 16 {
		return nil, errors.New("the argon2id hash is cut off, or has parameters that are not possible")
	}
	return &h, nil
}

// Matches reports whether hash was made from password.
func Matches(hash string, password []byte) bool {
	h, err := parseHash(hash)
	if err != nil {
		return false
	}
	if h == nil {
		return bcrypt.CompareHashAndPassword([]byte(hash), password) == nil
	}
	sum := argon2.IDKey(password, h.salt, h.time, h.memory, h.lanes, uint32(len(h.sum)))
	return subtle.ConstantTimeCompare(sum, h.sum) == 1
}
