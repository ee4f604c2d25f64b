package dial

import (
	"encoding/json"
	"fmt"
	"net/http"
)

// RefusedIn words an answer that refuses in JSON, {"error": "a sentence"}, as the interfaces of recorders and analysers do. Whoever is
// refused otherwise than by 401 was let in.
func RefusedIn(status int, data []byte, tried, on string) error {
	var e struct {
		Error string `json:"error"`
	}
	_ = json.Unmarshal(data, &e)
	says := CleanText(e.Error, 300)
	if says == "" {
		says = fmt.Sprintf("HTTP %d", status)
	}
	kind := ErrRefused
	switch status {
	case http.StatusUnauthorized:
		kind = ErrNotAuthorised
	case http.StatusNotFound, http.StatusMethodNotAllowed:
		kind = ErrNotSupported
	}
	return &Error{Tried: tried, On: on, Kind: kind, Says: says, Beyond: status != http.StatusUnauthorized}
}
