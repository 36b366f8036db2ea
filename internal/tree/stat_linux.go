package tree

import "syscall"

func changeTime(raw *syscall.Stat_t) int64 { return raw.Ctim.Nano() }
