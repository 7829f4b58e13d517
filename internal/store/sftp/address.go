package sftp

import (
	"fmt"
	"net"
	"net/url"
	"os/user"
	"path"
	"strings"
)

// address is where a store is, and how it is reached.
type address struct {
	user, host, port string
	folder           string // absolute, or from the user's home
	key              string // path of a private key of this machine; empty: the usual ones, and the agent's
	hosts            string // path of a file of known hosts; empty: the usual ones
	jump             *address
}

// parseAddress reads what stands after the scheme: user@host:port/path, with key, known_hosts and jump as options.
func parseAddress(place string) (*address, error) {
	u, err := url.Parse("sftp://" + place)
	if err != nil {
		return nil, fmt.Errorf("sftp://%s cannot be understood", place)
	}
	if _, secret := u.User.Password(); secret {
		return nil, fmt.Errorf("a password has no place in an address: use a key, or the agent")
	}
	a := &address{user: u.User.Username(), host: u.Hostname(), port: u.Port(), folder: u.Path}
	if a.host == "" {
		return nil, fmt.Errorf("sftp://%s names no host", place)
	}
	if a.user == "" {
		if me, err := user.Current(); err == nil {
			a.user = me.Username
		}
	}
	if a.port == "" {
		a.port = "22"
	}
	if rest, home := strings.CutPrefix(a.folder, "/~/"); home {
		a.folder = rest
	}
	if a.folder = path.Clean(a.folder); a.folder == "/" || a.folder == "." {
		return nil, fmt.Errorf("sftp://%s names no folder", place)
	}
	for option, values := range u.Query() {
		switch option {
		case "key":
			a.key = values[0]
		case "known_hosts":
			a.hosts = values[0]
		case "jump":
			if a.jump, err = parseJump(values[0]); err != nil {
				return nil, err
			}
		default:
			return nil, fmt.Errorf("an SFTP address has no option %q; there are key, known_hosts and jump", option)
		}
	}
	if a.jump != nil {
		a.jump.key, a.jump.hosts = a.key, a.hosts
	}
	return a, nil
}

// parseJump reads user@host:port of a host by way of which others are reached.
func parseJump(text string) (*address, error) {
	a, err := parseAddress(text + "/jump")
	if err != nil {
		return nil, err
	}
	a.folder = ""
	return a, nil
}

// server is the address for the network.
func (a *address) server() string { return net.JoinHostPort(a.host, a.port) }

// where is a name in the store as people write it: without what only this machine needs.
func (a *address) where(name string) string {
	host := a.host
	if strings.Contains(host, ":") {
		host = "[" + host + "]"
	}
	if a.port != "22" {
		host += ":" + a.port
	}
	folder := a.folder
	if !path.IsAbs(folder) {
		folder = "/~/" + folder
	}
	if name != "" {
		folder += "/" + name
	}
	return "sftp://" + a.user + "@" + host + folder
}
