package web

import "net/http"

// Route is a method and a path, as tests walk them.
type Route struct{ Method, Path string }

// Routes lists all that the server answers, for tests.
func (s *Server) Routes() []Route {
	var out []Route
	for _, r := range s.routes().Router().Routes() {
		if r.Method == http.MethodGet || r.Method == http.MethodPost || r.Method == http.MethodPut || r.Method == http.MethodDelete || r.Method == http.MethodPatch {
			out = append(out, Route{r.Method, r.Path})
		}
	}
	return out
}

// OpenAPI is the description that is served.
func OpenAPI() []byte { return openAPI }
