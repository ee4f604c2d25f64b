package recording

// Shift is what becomes of one stream's rate.
type Shift struct {
	Keys, Rest float64 // of what its key frames make, and of the rest, to what they make now
	Cap        float64 // the most that the whole can be, in kbit/s; 0: not told
	Fixed      bool    // it is Cap, constantly
	Unknown    bool    // nothing but Cap is known
	Most       bool    // it is this at the most
}

// of is the whole of a rate and what its key frames make of it, shifted; keys is 0 where that isn't told. most says that
// they are the most that they can be.
func (x Shift) of(whole, keys float64) (newWhole, newKeys float64, most bool) {
	switch {
	case whole <= 0:
		return 0, 0, false
	case x.Fixed:
		return x.Cap, keys * x.Keys, false
	case x.Unknown:
		return x.Cap, min(keys, 1) * x.Cap, true
	case keys > 0:
		newWhole = keys*x.Keys + max(0, whole-keys)*x.Rest
	default:
		newWhole, most = whole*max(x.Keys, x.Rest), x.Keys != x.Rest
	}
	most = most || x.Most
	if x.Cap > 0 && newWhole > x.Cap {
		newWhole, most = x.Cap, x.Most
	}
	return newWhole, min(keys*x.Keys, newWhole), most
}

// Rescale is what becomes of a channel's rates once its streams are set otherwise; nil: that stream stays.
type Rescale struct{ Record, View *Shift }

// Silent is as though nothing came any more of the streams that are set otherwise.
func (x Rescale) Silent() (out Rescale) {
	if x.Record != nil {
		out.Record = &Shift{}
	}
	if x.View != nil {
		out.View = &Shift{}
	}
	return out
}

// Rate is what becomes of a rate, and whether it is the most that it can be.
func (x Rescale) Rate(r Rate) (out Rate, most bool) {
	out = r
	if x.Record != nil {
		out.Record, out.Keys, most = x.Record.of(r.Record, r.Keys)
	}
	if x.View != nil {
		var viewMost bool
		out.View, _, viewMost = x.View.of(r.View, 0)
		most = most || viewMost
	}
	return out, most
}

// Rescaled is the channel with its rates as they are expected, and whether one of them is the most that it can be. What
// the recorder counted of it goes with what the channel makes: it stays the measure of how far reckoning is off.
func (c Channel) Rescaled(x Rescale, s Storage, assume float64) (out Channel, most bool) {
	out = c
	for _, r := range []*Rate{&out.Rates.Day, &out.Rates.Night, &out.Rates.BusyDay, &out.Rates.BusyNight} {
		now, is := x.Rate(*r)
		*r, most = now, most || is
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
	return out, most
}
