package cli

import (
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"grainkeep/internal/config"
	"grainkeep/internal/fault"
	"grainkeep/internal/job"
	"grainkeep/internal/phrase"
	"grainkeep/internal/seal"
)

// sealFlags say for whom something is to be sealed that no configuration tells of.
type sealFlags struct {
	names []string
	lone  bool
}

func (s *sealFlags) add(cmd *cobra.Command, text string) {
	cmd.Flags().StringArrayVar(&s.names, "seal", nil, text+": a public key, or file:PATH; may be repeated")
	cmd.Flags().BoolVar(&s.lone, "one-recipient", false, "that there is just one recipient is meant: a lost key is a lost dump")
}

// recipients are those that were named; none: nothing is to be sealed.
func (s *sealFlags) recipients(f *config.File) ([]seal.Recipient, error) {
	if len(s.names) == 0 {
		return nil, nil
	}
	return job.Of(f).SealFor("--seal", s.names, s.lone)
}

// maxKeyFile bounds a file of private keys, in bytes.
const maxKeyFile = 1 << 20

// fetchKeys fetches the private keys that --key and the configuration name.
func (a *app) fetchKeys(r *seal.Ring) error {
	for _, name := range a.keys {
		if err := a.fetchKey(r, name); err != nil {
			return err
		}
	}
	f, err := a.config()
	if err != nil || f == nil {
		return err
	}
	for _, name := range f.Keys {
		if err := job.Of(f).AddKey(r, name, nil); err != nil {
			return err
		}
	}
	return nil
}

// fetchKey fetches the key that --key names. On a bad day it may lie on a stick that knows no owners: whoever names it here
// has it in hand.
func (a *app) fetchKey(r *seal.Ring, name string) error {
	if place, is := strings.CutPrefix(name, "passphrase:"); is {
		if place == "ask" {
			secret, err := a.askPassphrase("the dumps")()
			if err != nil {
				return err
			}
			return r.AddPassphrase(secret)
		}
		return job.Of(nil).AddKey(r, name, nil)
	}
	f, err := os.Open(name)
	if err != nil {
		return fault.Wrong("key-absent", "the key %s cannot be read", phrase.Clean(name)).Advise("check its path and its owner")
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxKeyFile))
	if err == nil {
		err = r.Add(data, a.askPassphrase(name))
	}
	if err != nil {
		return fault.Wrong("key-unusable", "the key %s cannot be used: %v", phrase.Clean(name), err)
	}
	return nil
}

// askPassphrase asks on the terminal for the passphrase of something.
func (a *app) askPassphrase(of string) seal.Ask {
	return func() (string, error) {
		in, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
		if err != nil {
			return "", fmt.Errorf("it is protected by a passphrase, and there is no terminal to ask for it")
		}
		defer in.Close()
		fmt.Fprintf(in, "Passphrase of %s: ", phrase.Clean(of))
		secret, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(in)
		return string(secret), err
	}
}
