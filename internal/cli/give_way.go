package cli

import (
	"os"
	"runtime"
	"strconv"

	"golang.org/x/sys/unix"
)

// lowest is the priority of what runs when nothing else wants to.
const lowest = 19

// giveWay lets a service that runs on the same machine go first: the command takes one processor, and that when nobody
// else wants it. Where the system does not allow that, the others only wait longer.
func giveWay() {
	runtime.GOMAXPROCS(1)
	threads, _ := os.ReadDir("/proc/self/task") // each has a priority of its own, and those to come have that of one
	for _, one := range threads {
		if id, err := strconv.Atoi(one.Name()); err == nil {
			_ = unix.Setpriority(unix.PRIO_PROCESS, id, lowest)
		}
	}
}
