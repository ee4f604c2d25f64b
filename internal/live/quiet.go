package live

import "github.com/pion/logging"

// quiet makes loggers that tell nothing: what a browser's connection does is told in words on
// its page, and what browsers send is no line of a server's log.
type quiet struct{}

// NewLogger makes one.
func (quiet) NewLogger(string) logging.LeveledLogger { return silent{} }

type silent struct{}

func (silent) Trace(string)          {}
func (silent) Tracef(string, ...any) {}
func (silent) Debug(string)          {}
func (silent) Debugf(string, ...any) {}
func (silent) Info(string)           {}
func (silent) Infof(string, ...any)  {}
func (silent) Warn(string)           {}
func (silent) Warnf(string, ...any)  {}
func (silent) Error(string)          {}
func (silent) Errorf(string, ...any) {}
