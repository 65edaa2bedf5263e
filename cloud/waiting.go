package cloud

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"isonomos/core/count"
)

// firstWord is how long a cloud may keep silent until that is told; then at growing intervals.
const firstWord = 2 * time.Second

// Watch calls tell while something lasts: first after two seconds, then whenever as much time has passed again. The
// returned function ends it. tell may be nil.
func Watch(tell func(lasted time.Duration)) (stop func()) {
	if tell == nil {
		return func() {}
	}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	began := time.Now()
	go func() {
		defer close(ended)
		for wait := firstWord; ; wait *= 2 {
			timer := time.NewTimer(wait)
			select {
			case <-ctx.Done():
				timer.Stop()
				return
			case <-timer.C:
				tell(time.Since(began).Round(time.Second))
			}
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}

// Patience is how long a request is usually tried at most.
func Patience() time.Duration { return Options{}.patience() }

// patience is how long a request is tried at most.
func (o Options) patience() time.Duration {
	attempts := cmp.Or(o.Attempts, 8)
	return time.Duration(attempts)*cmp.Or(o.Timeout, time.Minute) +
		time.Duration(attempts-1)*cmp.Or(o.MostWait, 20*time.Second)
}

// waitingFor watches a request of the client.
func (c *Client) waitingFor() (stop func()) {
	if c.slow == nil {
		return func() {}
	}
	return Watch(func(lasted time.Duration) {
		c.slow(fmt.Sprintf("waiting for %s, which has not answered for %s; it is tried for %s at most", c.base,
			count.Lasting(lasted), count.Lasting(c.patience)))
	})
}
