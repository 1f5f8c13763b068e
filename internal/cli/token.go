package cli

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
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
	if uid, _, ok := invoking(); ok && os.Getenv("XDG_STATE_HOME") == "" { // one home, with sudo and without
		if u, err := user.LookupId(strconv.Itoa(uid)); err == nil && filepath.IsAbs(u.HomeDir) {
			home = filepath.Join(u.HomeDir, ".local", "state", "openbastion", "labs")
		}
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
	if text := strings.TrimSpace(string(data)); err == nil && text != "" {
		return text, nil
	} else if err == nil {
		return "", failure{exitUsage, "the secret of " + lab + " is empty: " + file,
			"restore it from a backup; without one remove it, and carry new plans into the guests"}
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return "", failure{exitUsage, "cannot read the secret of " + lab + ": " + err.Error(), ""}
	}
	text, err := fresh()
	if err != nil {
		return "", err
	}
	if err := keep(file, text+"\n"); errors.Is(err, fs.ErrExist) { // somebody was faster
		return secret(kind, lab, fresh)
	} else if err != nil {
		return "", failure{exitUsage, "cannot keep the secret of " + lab + ": " + err.Error(), ""}
	}
	return text, nil
}

// keep writes a secret whole, for its owner only: it appears under its name with all that is in it, or
// not at all. Under sudo it is the invoking user's.
func keep(file, text string) error {
	dir := filepath.Dir(file)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	own := func(string) {}
	if uid, gid, ok := invoking(); ok {
		own = func(path string) { _ = os.Chown(path, uid, gid) } // where it may not, root's it stays
		for d := dir; len(d) > 1 && filepath.Base(d) != "state"; d = filepath.Dir(d) {
			own(d)
		}
	}
	f, err := os.CreateTemp(dir, ".secret-*") // 0600
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(text)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	own(f.Name())
	return os.Link(f.Name(), file)
}

// invoking returns the user for whom sudo started the program, where it did.
func invoking() (uid, gid int, ok bool) {
	uid, err := strconv.Atoi(os.Getenv("SUDO_UID"))
	gid, err2 := strconv.Atoi(os.Getenv("SUDO_GID"))
	return uid, gid, os.Geteuid() == 0 && err == nil && err2 == nil && uid > 0
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

// ownWitness returns the public key of a lab's witness on this machine; nil where it never had one.
func ownWitness(lab string) (ed25519.PublicKey, error) {
	file, err := secretFile("witness", lab)
	if err != nil {
		return nil, err
	}
	if _, err := os.Stat(file); err != nil {
		return nil, nil
	}
	key, err := witnessKey(lab)
	if err != nil {
		return nil, err
	}
	return key.Public().(ed25519.PublicKey), nil
}
