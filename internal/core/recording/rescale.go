package recording

// Rescale is what becomes of a channel's rates once its streams are set otherwise: what each is multiplied by. Levels
// that aren't named stay; one that is 0 isn't known any more.
type Rescale struct {
	By   map[Level]float64
	Most bool // one of them is the most that it can be
}

// Rescaled is the channel with its rates as they are expected. What the recorder counted of it goes with what the
// channel makes: it stays the measure of how far reckoning is off.
func (c Channel) Rescaled(x Rescale, s Storage, assume float64) Channel {
	out := c
	for _, r := range []*Rate{&out.Rates.Day, &out.Rates.Night, &out.Rates.BusyDay, &out.Rates.BusyNight} {
		for level, by := range x.By {
			switch level {
			case Record:
				r.Record *= by
			case View:
				r.View *= by
			case Keys:
				r.Keys *= by
			}
		}
	}
	if c.Kept > 0 {
		was, is := c, out
		was.Plan, is.Plan = c.KeptBy, c.KeptBy
		before, after := was.reckon(assume, s.Buffer, s.days()), is.reckon(assume, s.Buffer, s.days())
		out.Kept = 0
		if before.Bytes > 0 && !after.Unknown {
			out.Kept = c.Kept * after.Bytes / before.Bytes
		}
	}
	return out
}
