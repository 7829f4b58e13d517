package files

import (
	"os"
	"time"
)

// Nothing of this is reached: a folder is neither read nor put back where files have no owners.

func attributesOf(*os.File) (map[string]string, error) { return nil, noOwners() }

func setAttributes(*os.File, map[string]string) []string { return nil }

func setTime(*os.File, time.Time) error { return noOwners() }

func setLinkTime(*os.File, string, time.Time) error { return noOwners() }

func makeFifo(*os.File, string, uint32) error { return noOwners() }

func syncAll(*os.Root, *os.File) error { return noOwners() }
