package overhttp

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nexocumula/internal/certs"
	"nexocumula/internal/event"
	"nexocumula/internal/plain"
	"nexocumula/internal/secret"
	"nexocumula/internal/uplink"
	"nexocumula/internal/wire"
)

// Credential is the secret that a gateway received when it joined its central. It is the only copy.
type Credential struct {
	Gateway     string    `json:"gateway"`
	Secret      string    `json:"secret"`
	Fingerprint string    `json:"fingerprint,omitempty"` // of the certificate that the central showed then
	Since       time.Time `json:"since"`
}

// CredentialFile returns the file of an uplink's credential, in the folder of the service.
func CredentialFile(data, uplink string) string {
	return filepath.Join(data, "uplinks", uplink+".json")
}

// Save writes it for its owner only.
func (c Credential) Save(file string) error {
	text, err := json.MarshalIndent(c, "", "  ")
	if err == nil {
		err = secret.WriteFile(file, append(text, '\n'))
	}
	if err != nil {
		return fmt.Errorf("keeping the credential: %w", err)
	}
	return nil
}

// LoadCredential reads one.
func LoadCredential(file string) (c Credential, err error) {
	text, err := os.ReadFile(file)
	if err == nil {
		if err = secret.OnlyOwner(file); err == nil {
			err = json.Unmarshal(text, &c)
		}
	}
	if err == nil && c.Secret == "" {
		err = errors.New("there is no secret in it")
	}
	if err != nil {
		return c, fmt.Errorf("the credential in %s: %w", file, err)
	}
	return c, nil
}

// identity is the credential that a sender proves its name with where its settings have no
// secret. It may come or change while the sender runs.
type identity struct {
	file string
	site string

	mu      sync.Mutex // a sender and what waits for requests both use it
	stamp   time.Time
	present Credential
	client  *http.Client
	asked   time.Time // when the next credential was asked for last; only the sender asks
}

// renewAfter is how old a credential becomes.
const (
	renewAfter = 30 * 24 * time.Hour
	askAgain   = time.Hour
)

// current returns the bearer and the client to send with.
func (c *carrier) current() (bearer string, by *http.Client, err error) {
	i := &c.identity
	if c.settings.Token != "" {
		return c.settings.Token, c.http, nil
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	about, err := os.Stat(i.file)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, fmt.Errorf("this gateway has not joined its central: run nexocumula gateway add %s there, and nexocumula join here with the code it prints",
			i.site)
	}
	if err != nil {
		return "", nil, fmt.Errorf("the credential cannot be read: %w", err)
	}
	if about.ModTime() != i.stamp || i.present.Secret == "" {
		joined, err := LoadCredential(i.file)
		if err != nil {
			return "", nil, err
		}
		i.use(joined, about.ModTime(), c.http, c.meter)
	}
	return i.present.Secret, i.client, nil
}

func (i *identity) use(c Credential, stamp time.Time, otherwise *http.Client, meter *uplink.Meter) {
	if c.Fingerprint != i.present.Fingerprint || i.client == nil {
		i.client = otherwise
		if c.Fingerprint != "" {
			i.client = metered(certs.Pinned(c.Fingerprint), meter)
			i.client.CheckRedirect = otherwise.CheckRedirect
		}
	}
	i.present, i.stamp = c, stamp
}

// renew gets the credential that follows one that has become old. Until the new one is on
// disk and used, the old one counts, so nothing that happens in between cuts the gateway off.
func (c *carrier) renew(ctx context.Context) {
	i, now := &c.identity, c.now()
	i.mu.Lock()
	present, by := i.present, i.client
	i.mu.Unlock()
	if c.settings.Token != "" || now.Sub(present.Since) < renewAfter || now.Sub(i.asked) < askAgain {
		return
	}
	i.asked = now
	next, err := c.nextCredential(ctx, present, by)
	if err == nil {
		next.Since = now.UTC()
		err = next.Save(i.file)
	}
	if err != nil {
		event.CredentialKept.To(c.log, "error", err)
		return
	}
	event.CredentialRenewed.To(c.log)
}

func (c *carrier) nextCredential(ctx context.Context, next Credential, by *http.Client) (Credential, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	body, err := json.Marshal(map[string]string{"gateway": c.name})
	if err != nil {
		return next, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.settings.URL+wire.CredentialPath,
		bytes.NewReader(body))
	if err != nil {
		return next, err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+next.Secret)
	resp, err := by.Do(req)
	if err != nil {
		return next, plain.Network(err)
	}
	defer resp.Body.Close()
	var answer struct {
		Secret string `json:"secret"`
	}
	if resp.StatusCode != http.StatusOK {
		return next, fmt.Errorf("the central answered HTTP %d", resp.StatusCode)
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<16)).Decode(&answer); err != nil || answer.Secret == "" {
		return next, errors.New("the central's answer holds no credential")
	}
	next.Secret = answer.Secret
	return next, nil
}
