package salvage

import (
	"iter"
	"runtime"
	"sync"
)

// result is what a job gave, or what it panicked with.
type result[R any] struct {
	gave     R
	panicked any
}

// guarded does a job; a panic in it is its result, not the process's end.
func guarded[J, R any](do func(J) R, job J) (r result[R]) {
	defer func() {
		if v := recover(); v != nil {
			r.panicked = v
		}
	}()
	r.gave = do(job)
	return r
}

// inOrder does jobs, several at a time, and yields what they give in the order of
// the jobs. Each worker does its own with the function that worker gives it. jobs
// runs beside the workers and the consumer.
func inOrder[J, R any](jobs iter.Seq[J], worker func() func(J) R) iter.Seq[R] {
	return func(yield func(R) bool) {
		type ticket struct {
			job  J
			done chan result[R]
		}
		workers := runtime.GOMAXPROCS(0)
		todo, order, quit := make(chan ticket), make(chan ticket, 2*workers), make(chan struct{})
		var wg sync.WaitGroup
		defer wg.Wait()
		defer close(quit)
		for range workers {
			do := worker()
			wg.Go(func() {
				for t := range todo {
					t.done <- guarded(do, t.job)
				}
			})
		}
		wg.Go(func() {
			defer close(todo)
			defer close(order)
			for j := range jobs {
				t := ticket{j, make(chan result[R], 1)}
				for _, c := range []chan ticket{order, todo} {
					select {
					case c <- t:
					case <-quit:
						return
					}
				}
			}
		})
		for t := range order {
			r := <-t.done
			if r.panicked != nil {
				panic(r.panicked) // where whoever asked for the rows can recover from it
			}
			if !yield(r.gave) {
				return
			}
		}
	}
}
