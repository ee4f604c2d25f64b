package store

import (
	"bytes"
	stdjson "encoding/json"

	"github.com/go-json-experiment/json/v1"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
)

// plainJSON has a connection hand out what PostgreSQL holds as JSON without checking it again: a fact's value is
// passed on as it stands, and is decoded once, by who asks for it.
func plainJSON(c *pgx.Conn) {
	m := c.TypeMap()
	m.RegisterType(&pgtype.Type{Name: "json", OID: pgtype.JSONOID, Codec: &pgtype.JSONCodec{Marshal: stdjson.Marshal, Unmarshal: decode}})
	m.RegisterType(&pgtype.Type{Name: "jsonb", OID: pgtype.JSONBOID, Codec: &pgtype.JSONBCodec{Marshal: stdjson.Marshal, Unmarshal: decode}})
}

// decode reads a value that PostgreSQL holds, which is well formed. data isn't kept.
func decode(data []byte, into any) error {
	if raw, ok := into.(*stdjson.RawMessage); ok {
		*raw = bytes.Clone(data)
		return nil
	}
	return json.Unmarshal(data, into)
}
