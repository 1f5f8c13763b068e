package cli

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"openbastion/internal/classroom/witness"
	"openbastion/internal/testbed/supervisor"
)

// secretFile returns where something secret of a lab is kept: beside the folder of all labs.
func secretFile(kind, lab string) (string, error) {
	home, err := supervisor.Home()
	if err != nil {
		return "", failure{exitLacking, err.Error(), ""}
	}
	return filepath.Join(filepath.Dir(home), "secrets", lab+"."+kind), nil
}

// secret reads something secret of a lab, or makes it and keeps it, for its owner only.
func secret(kind, lab string, fresh func() (string, error)) (string, error) {
	file, err := secretFile(kind, lab)
	if err != nil {
		return "", err
	}
	data, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(data)), nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", failure{exitUsage, "cannot read the secret of " + lab + ": " + err.Error(), ""}
	}
	text, err := fresh()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", failure{exitUsage, "cannot keep the secret of " + lab + ": " + err.Error(), ""}
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) { // somebody was faster
		return secret(kind, lab, fresh)
	}
	if err == nil {
		_, err = f.WriteString(text + "\n")
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return "", failure{exitUsage, "cannot keep the secret of " + lab + ": " + err.Error(), ""}
	}
	return text, nil
}

// tokenOf returns a lab's token: the one that was said, else the lab's own, which is made when
// it is first needed.
func tokenOf(said, lab string) (witness.Token, error) {
	if said == "" {
		var err error
		if said, err = secret("token", lab, func() (string, error) {
			t, err := witness.NewToken(rand.Reader)
			return t.String(), err
		}); err != nil {
			return witness.Token{}, err
		}
	}
	t, err := witness.ParseToken(said)
	if err != nil {
		return t, usage("the token of %s: %v", lab, err)
	}
	return t, nil
}

// witnessKey returns the key of a lab's witness on this machine.
func witnessKey(lab string) (ed25519.PrivateKey, error) {
	text, err := secret("witness", lab, func() (string, error) {
		t, err := witness.NewToken(rand.Reader) // 128 bits of randomness, from which the key follows
		return t.String(), err
	})
	if err != nil {
		return nil, err
	}
	t, err := witness.ParseToken(text)
	if err != nil {
		return nil, failure{exitUsage, "the key of " + lab + "'s witness cannot be read: " + err.Error(), ""}
	}
	return t.Signing(), nil
}
