package people

import "time"

// freeTries is how often somebody may be refused before they have to wait.
const freeTries = 5

// longestWait is how long a wait grows at most.
const longestWait = 15 * time.Minute

// Wait is how long who was refused missed times in a row waits before the next try: not at
// all up to five times, then ten seconds, twice as long each time, at most longestWait.
func Wait(missed int) time.Duration {
	if missed < freeTries {
		return 0
	}
	d := 10 * time.Second
	for range missed - freeTries {
		if d *= 2; d >= longestWait {
			return longestWait
		}
	}
	return d
}

// WaitMany is Wait for what several people share, as an address: four times as many tries
// are free.
func WaitMany(missed int) time.Duration { return Wait(missed - 3*freeTries) }
