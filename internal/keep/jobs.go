package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"grainkeep/internal/fault"
	"grainkeep/internal/record"
	"grainkeep/internal/seal"
	"grainkeep/internal/store"
)

// jobCheck begins the last line of a kept job: the digest of all that is above it.
const jobCheck = "# sha256 of the lines above: "

// SaveJob keeps the job's configuration as last run, without secrets. Where the job's dumps are sealed, it is sealed for
// the same recipients: it names tables.
func (k *Keep) SaveJob(ctx context.Context, job string, text []byte, to []seal.Recipient) error {
	r, ok := k.st.(store.Replacer)
	if !ok {
		return errors.New("this kind of store cannot replace a file")
	}
	text = fmt.Appendf(text, "%s%s\n", jobCheck, record.ID(text))
	if len(to) > 0 {
		sealed, err := seal.Bytes(text, to)
		if err == nil {
			err = r.Replace(ctx, jobFile(job)+sealedEnding, sealed)
		}
		if err == nil { // of before it was sealed
			err = store.IgnoreAbsent(k.st.Remove(ctx, jobFile(job)))
		}
		if err != nil {
			return k.unwritable(err)
		}
		return nil
	}
	if old, err := store.ReadAll(ctx, k.st, jobFile(job), maxSmall); err == nil && string(old) == string(text) {
		return nil
	}
	if err := r.Replace(ctx, jobFile(job), text); err != nil {
		return k.unwritable(err)
	}
	return nil
}

func jobFile(job string) string { return jobsName + "/" + job + ".toml" }

// Job reads a job's configuration as it last ran; fs.ErrNotExist if none is kept. What
// it says chooses no place, no user and no command.
func (k *Keep) Job(ctx context.Context, job string) ([]byte, error) {
	if !IsJob(job) {
		return nil, fs.ErrNotExist
	}
	data, err := store.ReadAll(ctx, k.st, jobFile(job), maxSmall)
	if errors.Is(err, fs.ErrNotExist) {
		data, err = k.sealedJob(ctx, job)
	}
	if err != nil {
		return nil, err
	}
	if !jobIntact(data) {
		return nil, fault.New("job-damaged", nil,
			"%s is damaged: the check in its last line does not match the lines above",
			k.st.Where(jobFile(job)))
	}
	return data, nil
}

// sealedEnding is that of a file that is sealed.
const sealedEnding = ".age"

// sealedJob reads a job's configuration that is sealed.
func (k *Keep) sealedJob(ctx context.Context, job string) ([]byte, error) {
	sealed, err := store.ReadAll(ctx, k.st, jobFile(job)+sealedEnding, maxSmall)
	if err != nil {
		return nil, err
	}
	text, err := seal.Held(ctx).Unseal(sealed, maxSmall)
	if err != nil {
		return nil, fault.New("job-sealed", err, "%s cannot be opened", k.st.Where(jobFile(job)+sealedEnding)).
			Advise("give --key FILE with a private key of those for whom the job's dumps are sealed")
	}
	return text, nil
}

// ResealJob seals a job's configuration for other recipients; one that is not sealed, or is not there, stays as it is.
func (k *Keep) ResealJob(ctx context.Context, job string, to []seal.Recipient) error {
	r, ok := k.st.(store.Replacer)
	if !ok || !IsJob(job) {
		return nil
	}
	text, err := k.sealedJob(ctx, job)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var sealed []byte
	if err == nil {
		sealed, err = seal.Bytes(text, to)
	}
	if err != nil {
		return err
	}
	if err := r.Replace(ctx, jobFile(job)+sealedEnding, sealed); err != nil {
		return k.unwritable(err)
	}
	return nil
}

// jobIntact says whether a kept job is as it was written.
func jobIntact(data []byte) bool {
	at := strings.LastIndex(string(data), jobCheck)
	return at >= 0 && string(data[at:]) == jobCheck+record.ID(data[:at])+"\n"
}
