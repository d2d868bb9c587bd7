package resident

import (
	"os"
	"runtime/metrics"
	"strconv"
	"strings"
)

// Sample is what the process's memory consists of, in bytes.
type Sample struct {
	Resident  int64 // all of it, as the system counts it; 0 where that is not known
	File      int64 // of it, the program's own file
	Live      int64 // found in use when it was collected the last time
	Objects   int64 // in use, or not collected yet
	Unused    int64 // between objects, in pages that have some
	Free      int64 // pages that have none, and were not given back yet
	Stacks    int64
	Runtime   int64 // what the runtime itself needs
	Allocated int64 // since the start
	Cycles    int64 // of collection
}

// Garbage is what has come since the last collection: some of it lives.
func (s Sample) Garbage() int64 { return max(0, s.Objects-s.Live) }

// Look takes a sample.
func Look() (s Sample) {
	of := map[string]*int64{
		"/gc/heap/live:bytes":                         &s.Live,
		"/gc/cycles/total:gc-cycles":                  &s.Cycles,
		"/gc/heap/allocs:bytes":                       &s.Allocated,
		"/memory/classes/heap/objects:bytes":          &s.Objects,
		"/memory/classes/heap/unused:bytes":           &s.Unused,
		"/memory/classes/heap/free:bytes":             &s.Free,
		"/memory/classes/heap/stacks:bytes":           &s.Stacks,
		"/memory/classes/os-stacks:bytes":             &s.Runtime,
		"/memory/classes/other:bytes":                 &s.Runtime,
		"/memory/classes/profiling/buckets:bytes":     &s.Runtime,
		"/memory/classes/metadata/mcache/inuse:bytes": &s.Runtime,
		"/memory/classes/metadata/mspan/inuse:bytes":  &s.Runtime,
		"/memory/classes/metadata/other:bytes":        &s.Runtime,
	}
	all := make([]metrics.Sample, 0, len(of))
	for name := range of {
		all = append(all, metrics.Sample{Name: name})
	}
	metrics.Read(all)
	for _, one := range all {
		if one.Value.Kind() == metrics.KindUint64 {
			*of[one.Name] += int64(one.Value.Uint64())
		}
	}
	s.Resident, s.File = fromSystem()
	return s
}

// fromSystem asks the system (proc_pid_statm(5)).
func fromSystem() (resident, file int64) {
	text, err := os.ReadFile("/proc/self/statm")
	fields := strings.Fields(string(text))
	if err != nil || len(fields) < 3 {
		return 0, 0
	}
	pages := func(field string) int64 {
		n, _ := strconv.ParseInt(field, 10, 64)
		return n * int64(os.Getpagesize())
	}
	return pages(fields[1]), pages(fields[2])
}
