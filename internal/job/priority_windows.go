package job

import "golang.org/x/sys/windows"

// YieldToOthers lowers the priority of this process, for the processor.
func YieldToOthers() error {
	return windows.SetPriorityClass(windows.CurrentProcess(), windows.BELOW_NORMAL_PRIORITY_CLASS)
}
