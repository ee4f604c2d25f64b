package pgserver

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// Hold makes a data folder where it is missing and keeps it for this process, so that no
// two work in one: release lets it go.
func Hold(data string) (release func(), err error) {
	if err := os.MkdirAll(data, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(data, LockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return nil, fmt.Errorf("the folder %s is in use by another server of this product: end that first, or give another --data", data)
	}
	return func() { _ = lock.Close() }, nil
}

// LockFile is the file of a data folder that is locked while somebody works in it.
const LockFile = "demo.lock"
