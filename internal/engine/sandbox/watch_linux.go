package sandbox

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// How a command is watched while it runs.
const (
	watchEvery = 250 * time.Millisecond
	watchOften = 25 * time.Millisecond
	// A sandbox's first process that is found stopped for so long, by so many looks in a row, is not to go on. A machine that
	// sleeps, or a supervisor that is stopped itself, looks not at all meanwhile.
	longestStop = 5 * time.Second
	leastLooks  = 10
	// share of what the machine has that a command may take where nothing else is said, in percent.
	share = 90
)

// watcher knows what a command may use.
type watcher struct {
	pid    int
	bounds Bounds
	dir    string // in which what the command writes comes to lie
	chroot bool

	free     int64 // bytes of the file system when the command started
	measured int64 // free bytes when the folder was measured last
	first    int64 // bytes in the folder at the start, of a copy
	looks    int   // in a row that found the first process stopped
}

// watch looks at a command again and again until it has ended, and ends it where it goes over its bounds.
func (w *watcher) watch(c *child) *BoundError {
	every := watchEvery
	if w.chroot { // nothing else bounds its processes
		every = watchOften
	}
	var stoppedSince time.Time
	for pause := every; ; {
		select {
		case <-c.ended:
			return nil
		case <-time.After(pause):
		}
		began := time.Now()
		over := w.over()
		switch {
		case !w.stopped():
			stoppedSince, w.looks = time.Time{}, 0
		case stoppedSince.IsZero():
			stoppedSince = began
		default:
			w.looks++
		}
		if w.looks >= leastLooks && time.Since(stoppedSince) > longestStop {
			over = &BoundError{Of: "signals", What: "the first process of its sandbox was stopped, by the command or from outside"}
		}
		if over != nil {
			c.kill()
			return over
		}
		pause = max(every, 20*time.Since(began)) // looking costs a twentieth at most
	}
}

func newWatcher(pid int, o *setup) *watcher {
	w := &watcher{pid: pid, bounds: o.Spec.Bounds, dir: filepath.Join(o.Work, "upper"), chroot: o.Kind == Chroot, first: o.Spec.Copied}
	if o.Lower == 0 {
		w.dir = filepath.Join(o.Work, "root")
	}
	w.free = w.freeBytes()
	w.measured = w.free
	if w.bounds.Memory == 0 {
		w.bounds.Memory = machineMemory() / 100 * share
	}
	if w.bounds.Processes == 0 {
		w.bounds.Processes = mostProcesses / 2
	}
	if w.bounds.Disk == 0 {
		w.bounds.Disk = w.free / 100 * share
	}
	return w
}

func (w *watcher) freeBytes() int64 {
	var stat unix.Statfs_t
	if unix.Statfs(w.dir, &stat) != nil {
		return 0
	}
	return int64(stat.Bavail) * stat.Bsize
}

// machineMemory tells how many bytes of memory this machine has, or most of a number where that is unknown.
func machineMemory() int64 {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 1 << 62
	}
	var kilobytes int64
	if _, err := fmt.Sscanf(string(text), "MemTotal: %d kB", &kilobytes); err != nil {
		return 1 << 62
	}
	return kilobytes << 10
}

// stopped reports whether the sandbox's first process is stopped, by a signal or a tracer.
func (w *watcher) stopped() bool {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", w.pid))
	if err != nil {
		return false
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	return strings.HasPrefix(rest, "T") || strings.HasPrefix(rest, "t")
}

// over tells what the command uses too much of.
func (w *watcher) over() *BoundError {
	folders := w.processes()
	if len(folders) > w.bounds.Processes {
		return &BoundError{Of: "processes", Most: int64(w.bounds.Processes), What: fmt.Sprintf("it had more than %d processes", w.bounds.Processes)}
	}
	if w.memory(folders, "statm") > w.bounds.Memory && w.memory(folders, "smaps_rollup") > w.bounds.Memory {
		return &BoundError{Of: "memory", Most: w.bounds.Memory, What: fmt.Sprintf("it used more than %d MB of memory", w.bounds.Memory/1e6)}
	}
	return w.disk()
}

// processes returns the folders in /proc of what runs in the sandbox, but for its first process.
func (w *watcher) processes() []string {
	if w.chroot {
		var all []string
		for _, pid := range processesBelow(w.dir) {
			if pid != w.pid {
				all = append(all, fmt.Sprintf("/proc/%d", pid))
			}
		}
		return all
	}
	inside := fmt.Sprintf("/proc/%d/root/proc", w.pid)
	folder, err := os.Open(inside)
	if err != nil {
		return nil
	}
	defer folder.Close()
	names, err := folder.Readdirnames(-1)
	var all []string
	for _, name := range names {
		if _, numErr := strconv.Atoi(name); numErr == nil && name != "1" {
			all = append(all, inside+"/"+name)
		}
	}
	if err != nil {
		return nil
	}
	return all
}

// memory sums what processes have in memory, in bytes: quickly from statm, where what they share counts for each, or
// exactly from smaps_rollup.
func (w *watcher) memory(folders []string, from string) (sum int64) {
	for _, folder := range folders {
		text, err := os.ReadFile(folder + "/" + from)
		if err != nil {
			continue
		}
		if from == "statm" {
			var size, resident int64
			if n, _ := fmt.Sscan(string(text), &size, &resident); n == 2 {
				sum += resident * int64(os.Getpagesize())
			}
			continue
		}
		for line := range strings.Lines(string(text)) {
			var kilobytes int64
			if n, _ := fmt.Sscanf(line, "Pss: %d kB", &kilobytes); n == 1 {
				sum += kilobytes << 10
			}
		}
	}
	return sum
}

// disk measures what the command wrote, where the file system has lost enough since the last time.
func (w *watcher) disk() *BoundError {
	free := w.freeBytes()
	if w.free-free <= w.bounds.Disk || w.measured-free < w.bounds.Disk/20 {
		return nil
	}
	w.measured = free
	written := -w.first
	_ = filepath.WalkDir(w.dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it is being changed
		}
		if info, err := d.Info(); err == nil {
			written += info.Sys().(*syscall.Stat_t).Blocks * 512
		}
		return nil
	})
	if written > w.bounds.Disk {
		return &BoundError{Of: "disk", Most: w.bounds.Disk, What: fmt.Sprintf("it wrote more than %d MB", w.bounds.Disk/1e6)}
	}
	return nil
}
