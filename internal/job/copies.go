package job

import (
	"net"
	"strings"

	"grainkeep/internal/config"
	"grainkeep/internal/system"
)

// LiveMedium tells on what a job's live data is: a server elsewhere, or a drive of this machine. Of a server here, whose
// folder only it knows, the system's drive is assumed.
func (s Set) LiveMedium(of string) string {
	j := s.f.Job[of]
	source := s.f.Source[j.Source]
	switch {
	case source.Path != "":
		return system.Drive(s.f.Absolute(source.Path))
	case source.Engine == config.Command || j.Source == "":
		return system.Drive("/")
	}
	host, _, err := net.SplitHostPort(source.Server)
	if err != nil {
		host = source.Server
	}
	if ip := net.ParseIP(host); strings.HasPrefix(host, "/") || host == "localhost" || host == "" || ip != nil && ip.IsLoopback() {
		return system.Drive("/")
	}
	return "host " + host
}
