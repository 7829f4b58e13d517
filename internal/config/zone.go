package config

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"grainkeep/internal/fault"
)

// localZone is the machine's zone under its proper name; UTC, where the machine says nothing
// of one. A zone that is said and not known is an error: times would be wrong in silence.
func localZone() (*time.Location, error) {
	for _, name := range []string{strings.TrimPrefix(os.Getenv("TZ"), ":"), zoneFile()} {
		if _, after, ok := strings.Cut(name, "zoneinfo/"); ok {
			name = after
		}
		if name == "" {
			continue
		}
		z, err := time.LoadLocation(name)
		if err != nil {
			return nil, fault.Wrong("timezone-unknown", "this machine's time zone %q is none that is known", name).
				Advise("write timezone = \"Atlantic/Faroe\", or the like, into the configuration, or set TZ to such a name")
		}
		return z, nil
	}
	return time.UTC, nil
}

// LocalZoneName is the name of this machine's zone, for those who go by the machine; empty, if it
// says none.
func LocalZoneName() string { return zoneFile() }

// zoneFile is the zone that the machine's own files name.
func zoneFile() string {
	link, _ := filepath.EvalSymlinks("/etc/localtime")
	if _, name, ok := strings.Cut(link, "zoneinfo/"); ok {
		return name
	}
	data, err := os.ReadFile("/etc/timezone")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(data))
}
