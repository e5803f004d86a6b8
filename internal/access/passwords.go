package access

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// common are words and rows of keys that passwords are made of more often than of anything else.
var common = []string{
	"password", "passwort", "passord", "motdepasse", "contrasena", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "1qaz2wsx3edc", "qazwsxedc", "q1w2e3r4t5",
	"letmein", "iloveyou", "welcome", "administrator", "admin", "changeme", "secret", "default", "monkey", "dragon", "football", "baseball", "sunshine", "princess", "trustno",
	"whatever", "starwars", "superman", "master", "hello", "login", "access", "user", "root", "test", "guest", "nexocumula", "gateway", "central",
}

// leastOfOwn letters have to be left of a password without the account's name.
const leastOfOwn = 8

// checkPassword refuses a password that is easily guessed for an account; account may be empty while it is not known.
func checkPassword(password, account string) error {
	n := utf8.RuneCountInString(strings.TrimSpace(password))
	switch {
	case n == 0:
		return wrong("password", "the password is blank; take %d characters or more, such as four words", leastPassword)
	case n < leastPassword || len(password) > longestPassword:
		return wrong("password", "the password has %d characters; take %d or more, such as four words", n,
			leastPassword)
	}
	for _, r := range password {
		if unicode.IsControl(r) {
			return wrong("password",
				"the password has the control character %U in it, which cannot be typed everywhere", r)
		}
	}
	plain := strings.ToLower(password)
	if name := strings.ToLower(account); len(name) >= 3 && strings.Contains(plain, name) {
		if plain = strings.ReplaceAll(plain, name, ""); len(wordsOf(plain)) < leastOfOwn {
			return wrong("password",
				"the password is made of the account's name; take something else, such as four words")
		}
	}
	for _, word := range common {
		plain = strings.ReplaceAll(plain, word, "")
	}
	if unguessed(plain) < leastUnguessed {
		return wrong("password",
			"the password is among those that are guessed first (common words, rows of keys, repetitions); take something else, such as four words")
	}
	return nil
}

// leastUnguessed characters have to be left of a password without what is guessed first.
const leastUnguessed = 6

// unguessed counts the characters of a text that do not follow from those before them: neither the same, nor
// the next or the one before of the alphabet or of the digits, nor part of a repetition of what begins the
// text.
func unguessed(text string) (count int) {
	runes := wordsOf(text)
	seen := map[[2]rune]bool{}
	for i, r := range runes {
		if i > 0 {
			step := r - runes[i-1]
			pair := [2]rune{runes[i-1], r}
			if step >= -1 && step <= 1 || seen[pair] {
				continue
			}
			seen[pair] = true
		}
		count++
	}
	return count
}

// wordsOf returns the letters and digits of a text.
func wordsOf(text string) (out []rune) {
	for _, r := range text {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			out = append(out, r)
		}
	}
	return out
}
