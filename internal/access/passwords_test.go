package access

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nexocumula/internal/rounds"
)

func TestPasswordsThatAreEasilyGuessedAreRefused(t *testing.T) {
	for password, says := range map[string]string{
		strings.Repeat(" ", 20): "is blank", "\t\n            ": "is blank", "short": "has 5 characters", "      short      ": "has 5 characters",
		"rangerranger1": "the account's name", "Ranger-2026!!": "the account's name", "ranger@ranger@": "the account's name",
		"password1234": "guessed first", "PasswordPassword": "guessed first", "qwertyuiop123": "guessed first", "123456789012": "guessed first", "aaaaaaaaaaaaa": "guessed first",
		"abcabcabcabcabc": "guessed first", "nexocumula2026": "guessed first", "changeme-admin1": "guessed first", "abcdefghijklmnop": "guessed first", "12121212121212": "guessed first",
		"tab\tbetween words": "control character",
	} {
		assert.ErrorContains(t, checkPassword(password, "ranger"), says, "%q", password)
	}
	for _, password := range []string{
		words, "correct horse battery staple", "Kx9#vTq2!mZpL", "fisken svømmer i elva", "ranger of the stony beck",
		"鱒は川を泳いでいる夏の朝に",
	} {
		assert.NoError(t, checkPassword(password, "ranger"), password)
	}
}

// A wrong password a minute from ever other addresses must not keep an owner out who has more to show.
func TestOthersDoNotKeepAnOwnerOut(t *testing.T) {
	rounds.Alone(t)
	b, clock := fresh(t)
	with(t, b, "owner", Administrator)
	first, err := b.Login(Attempt{Account: "owner", Password: words, From: "10.0.0.1", By: "console"})
	require.NoError(t, err)
	require.NotEmpty(t, first.Device)
	require.NoError(t, b.Logout(person, first.Bearer))
	n := 0
	attack := func() {
		for range 20 {
			n++
			clock.move(time.Minute)
			assert.Error(t, try(b, "owner", "not the password at all", fmt.Sprintf("10.1.%d.%d", n/250, n%250)))
		}
	}
	attack()
	assert.ErrorContains(t, try(b, "owner", words, "10.0.0.7"), "too many attempts failed",
		"who shows nothing else waits")
	device := func(proof string) error {
		n++
		_, err := b.Login(Attempt{
			Account:  "owner",
			Password: words,
			From:     fmt.Sprintf("10.3.%d.%d", n/250, n%250),
			By:       "console",
			Device:   proof,
		})
		return err
	}
	assert.NoError(t, device(first.Device), "a device that was used before")
	attack()
	for _, forged := range []string{"x", first.Device[:len(first.Device)-2], strings.Repeat("A", len(first.Device))} {
		assert.Error(t, device(forged))
	}
	with(t, b, "ranger", Viewer)
	_, err = b.Login(Attempt{
		Account:  "ranger",
		Password: "something else here",
		From:     "10.0.0.9",
		By:       "console",
		Device:   first.Device,
	})
	assert.Error(t, err, "it is the owner's, and lets nobody in")
	clock.move(DeviceLasts)
	attack()
	assert.Error(t, device(first.Device), "it does not count for ever")
	// A device that guesses waits as others do.
	clock.move(2 * time.Hour)
	again, err := b.Login(Attempt{Account: "owner", Password: words, From: "10.0.0.1", By: "console"})
	require.NoError(t, err)
	for i := range 2 * freeOfAccount {
		_, err = b.Login(Attempt{
			Account:  "owner",
			Password: "guess number " + fmt.Sprint(i),
			From:     fmt.Sprintf("10.2.0.%d", i),
			By:       "console",
			Device:   again.Device,
		})
	}
	var soon *TooSoon
	assert.ErrorAs(t, err, &soon)
}
