package standin

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"isonomos/store/whole"
)

// Files of tokens in a stand-in's folder.
const (
	TokenFile     = "token"       // may read and write
	ReadTokenFile = "token-read"  // may only read
	TokensFile    = "tokens.json" // others, if it is there: [{"token":"…","name":"amira","may":["read","write"]}]
)

// A holder is who has a token, and what that allows.
type holder struct {
	Token string   `json:"token"`
	Name  string   `json:"name"`
	May   []string `json:"may"`
}

// tokens are all that are known, read again when their files change.
type tokens struct {
	holders []holder
	read    [3]os.FileInfo
}

var tokenFiles = [3]string{TokenFile, ReadTokenFile, TokensFile}

// makeToken makes a file with a new token, if there is none.
func makeToken(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	_, err = f.WriteString(newSecret())
	return errors.Join(err, f.Close())
}

// TokenOf is the token of somebody who may read and write the clouds of a folder; it is made if there is none yet.
func TokenOf(folder, name string) (string, error) {
	path := filepath.Join(folder, TokensFile)
	var all []holder
	text, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	for _, h := range all {
		if h.Name == name {
			return h.Token, nil
		}
	}
	made := holder{newSecret(), name, []string{"read", "write"}}
	if text, err = json.Marshal(append(all, made)); err != nil {
		return "", err
	}
	return made.Token, whole.Put(path, string(text)+"\n", 0o600)
}

func newSecret() string {
	secret := make([]byte, 24)
	_, _ = rand.Read(secret) // crypto/rand never fails
	return hex.EncodeToString(secret)
}

// refresh reads the tokens again if a file has changed.
func (s *Server) refresh() error {
	var at [3]os.FileInfo
	for i, name := range tokenFiles {
		if info, err := os.Stat(filepath.Join(s.folder, name)); err == nil {
			at[i] = info
		}
	}
	if slices.EqualFunc(at[:], s.tokens.read[:], unchanged) {
		return nil
	}
	var all []holder
	for i, name := range tokenFiles {
		text, err := os.ReadFile(filepath.Join(s.folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		switch i {
		case 0:
			s.token = strings.TrimSpace(string(text))
			all = append(all, holder{s.token, "sandbox", []string{"read", "write"}})
		case 1:
			all = append(all, holder{strings.TrimSpace(string(text)), "sandbox-reader", []string{"read"}})
		default:
			var others []holder
			if err := json.Unmarshal(text, &others); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			all = append(all, others...)
		}
	}
	all = slices.DeleteFunc(all, func(h holder) bool { return h.Token == "" })
	s.tokens = tokens{all, at}
	return nil
}

// holderOf is who has the token of a request.
func (s *Server) holderOf(r *http.Request) (holder, bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.refresh(); err != nil {
		return holder{}, false, err
	}
	given := []byte(r.Header.Get("Authorization"))
	for _, h := range s.tokens.holders {
		if subtle.ConstantTimeCompare(given, []byte("Bearer "+h.Token)) == 1 {
			return h, true, nil
		}
	}
	return holder{}, false, nil
}

// permitted reports whether a token allows a request, and answers if it does not.
func (s *Server) permitted(w http.ResponseWriter, r *http.Request) (holder, bool) {
	h, known, err := s.holderOf(r)
	switch {
	case err != nil:
		tell(w, http.StatusInternalServerError, "the tokens can't be read: "+err.Error())
		return h, false
	case !known:
		w.Header().Set("WWW-Authenticate", "Bearer")
		tell(w, http.StatusUnauthorized, "the token is missing, or not the right one")
		return h, false
	}
	right := "write"
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		right = "read"
	}
	if !slices.Contains(h.May, right) {
		tell(w, http.StatusForbidden, fmt.Sprintf("the token of %s does not allow to %s", h.Name, right))
		return h, false
	}
	return h, true
}

type holderKey struct{}

func withHolder(ctx context.Context, h holder) context.Context {
	return context.WithValue(ctx, holderKey{}, h)
}

// asks is who sends a request.
func asks(r *http.Request) holder {
	h, _ := r.Context().Value(holderKey{}).(holder)
	return h
}
