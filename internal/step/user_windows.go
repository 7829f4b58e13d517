package step

import "os/exec"

// become does nothing: no step runs here.
func (Step) become(*exec.Cmd) error { return nil }
