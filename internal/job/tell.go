package job

import (
	"strings"
	"time"

	"grainkeep/internal/config"
	"grainkeep/internal/journal"
	"grainkeep/internal/phrase"
	"grainkeep/internal/tell"
)

// Teller tells people as the configuration says; nil where it names nobody.
func (s Set) Teller(j *journal.Journal) (*tell.Teller, error) {
	if s.f == nil || len(s.f.Tell) == 0 || j == nil {
		return nil, nil
	}
	t := &tell.Teller{Journal: j, Now: time.Now}
	for _, name := range s.f.Tells() {
		c := s.f.Tell[name]
		ch := tell.Channel{Name: name, Jobs: c.Jobs, Again: tell.DefaultAgain, Sender: s.sender(c)}
		for _, on := range c.On {
			ch.On = append(ch.On, tell.Kind(on))
		}
		if c.Again != "" {
			var err error
			if ch.Again, err = phrase.ParseAge(c.Again); err != nil {
				return nil, err
			}
		}
		t.Channels = append(t.Channels, ch)
	}
	return t, nil
}

func (s Set) sender(c config.Tell) tell.Sender {
	var secret func() (string, error)
	if c.Secret != "" {
		place := c.Secret
		if path, ok := strings.CutPrefix(place, "file:"); ok {
			place = "file:" + s.f.Absolute(path)
		}
		secret = func() (string, error) {
			found, err := fetchSecret(place)
			return found.Reveal(), err
		}
	}
	ca := c.CA
	if ca != "" {
		ca = s.f.Absolute(ca)
	}
	switch c.By {
	case "mail":
		return tell.Mail{Server: c.Server, TLS: c.TLS, CA: ca, User: c.User, Secret: secret, From: c.From, To: c.To}
	case "webhook":
		return tell.Webhook{URL: c.URL, CA: ca, Secret: secret}
	}
	return tell.Syslog{Server: c.Server, Facility: c.Facility, CA: ca}
}
