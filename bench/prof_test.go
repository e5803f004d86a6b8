package main

import (
	"fmt"
	"os"
	"runtime/pprof"
	"syscall"
	"testing"
	"time"
)

func TestProf(t *testing.T) {
	d, address, stop, err := startDevice(0)
	if err != nil {
		t.Fatal(err)
	}
	defer stop()
	d.takes = time.Millisecond
	s, end, err := startGateway(pollers(t.TempDir(), address, manyLines, unitsPerLine*1, 20, "100ms", ""))
	if err != nil {
		t.Fatal(err)
	}
	time.Sleep(12 * time.Second)
	before := d.answered.Load()
	f, _ := os.Create("/tmp/w.prof")
	_ = pprof.StartCPUProfile(f)
	c0 := cpu()
	time.Sleep(8 * time.Second)
	n := d.answered.Load() - before
	fmt.Println("cpu us per request", float64((cpu()-c0).Microseconds())/float64(n))
	pprof.StopCPUProfile()
	fmt.Println(float64(d.answered.Load()-before)/8, s.Gateway.Pipe.Accepted())
	for _, src := range s.Gateway.Sources()[:3] {
		fmt.Println(src.Line.Busy, src.Line.AnswerHalf, src.Line.AnswerMost, src.Line.Requests)
	}
	end()
	for range 2 {
		before = d.answered.Load()
		for range manyLines {
			go bareLoop(address, 20)
		}
		c0 := cpu()
		time.Sleep(roundLength)
		fmt.Println("cpu us per request", float64((cpu()-c0).Microseconds())/float64(d.answered.Load()-before))
		fmt.Println("bare", float64(d.answered.Load()-before)/roundLength.Seconds())
	}
}

func cpu() time.Duration {
	var r syscall.Rusage
	_ = syscall.Getrusage(0, &r)
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
