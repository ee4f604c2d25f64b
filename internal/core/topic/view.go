package topic

import "slices"

// SourceTokens is one view of a device as its events name it: by tokens of video sources and of
// the configurations that look through them. The zero SourceTokens is the whole device.
type SourceTokens struct {
	Own    []string // tokens of the view
	Others []string // tokens of its device's other views
}

// sourceItems are the items of an event's source that name a view (ONVIF Analytics Service
// Specification, Annex A; Imaging Service Specification, section 6).
var sourceItems = []string{"VideoSourceConfigurationToken", "VideoSourceToken", "VideoSource", "Source"}

// Concerns says whether an event with these source items is about the view. One that names
// none of the device's other views concerns it: what is said of the device as a whole, or in
// tokens that nobody knows, concerns every view.
func (v SourceTokens) Concerns(source map[string]string) bool {
	for _, name := range sourceItems {
		if token := source[name]; token != "" && slices.Contains(v.Others, token) && !slices.Contains(v.Own, token) {
			return false
		}
	}
	return true
}
