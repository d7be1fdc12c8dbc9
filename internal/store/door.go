package store

import (
	"bytes"
	"context"
	"database/sql/driver"
	"reflect"
	"unicode/utf8"

	"crosswind/core/record"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/stdlib"
)

// The door: every text on its way into the database passes it, whichever statement
// carries it. PostgreSQL's texts hold no NUL and no invalid UTF-8, and its jsonb no
// \u0000; evidence may hold all three. Such characters are written ␀ and �; the bytes
// stay in the vault.
//
// It stands in the driver: where the arguments of statements are checked, for texts by
// themselves, and in the encoding of the types that hold text, for arrays of them, for
// JSON and for rows that are loaded. So there is no second way in.
type doorConnector struct{ driver.Connector }

// Connect opens a connection with a door.
func (d doorConnector) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := d.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	return doorConn{c.(*stdlib.Conn)}, nil
}

type doorConn struct{ *stdlib.Conn }

// CheckNamedValue cleans an argument that is a text.
func (c doorConn) CheckNamedValue(v *driver.NamedValue) error {
	if err := c.Conn.CheckNamedValue(v); err != nil {
		return err
	}
	switch s := v.Value.(type) {
	case string:
		v.Value = record.Clean(s)
	case *string:
		if s != nil {
			v.Value = record.Clean(*s)
		}
	}
	if k := reflect.ValueOf(v.Value); k.Kind() == reflect.String { // a text of a type of its own
		v.Value = record.Clean(k.String())
	}
	return nil
}

// door readies a connection's encoding.
func door(_ context.Context, c *pgx.Conn) error {
	m := c.TypeMap()
	for oid, clean := range map[uint32]func([]byte) []byte{
		pgtype.TextOID: cleanText, pgtype.VarcharOID: cleanText, pgtype.BPCharOID: cleanText, pgtype.NameOID: cleanText,
		pgtype.JSONOID: cleanJSON, pgtype.JSONBOID: cleanJSON,
	} {
		t, ok := m.TypeForOID(oid)
		if !ok {
			continue
		}
		guarded := &pgtype.Type{Name: t.Name, OID: oid, Codec: doorCodec{t.Codec, clean}}
		m.RegisterType(guarded)
		for _, array := range map[uint32][]uint32{pgtype.TextOID: {pgtype.TextArrayOID}, pgtype.VarcharOID: {pgtype.VarcharArrayOID}}[oid] {
			if at, ok := m.TypeForOID(array); ok {
				m.RegisterType(&pgtype.Type{Name: at.Name, OID: array, Codec: &pgtype.ArrayCodec{ElementType: guarded}})
			}
		}
	}
	return nil
}

type doorCodec struct {
	pgtype.Codec
	clean func([]byte) []byte
}

// PreferredFormat is binary: what the driver writes as text it does not give to codecs.
func (d doorCodec) PreferredFormat() int16 { return pgtype.BinaryFormatCode }

// PlanEncode plans as the codec does, and cleans what comes of it.
func (d doorCodec) PlanEncode(m *pgtype.Map, oid uint32, format int16, value any) pgtype.EncodePlan {
	p := d.Codec.PlanEncode(m, oid, format, value)
	if p == nil {
		return nil
	}
	return doorPlan{p, d.clean}
}

type doorPlan struct {
	pgtype.EncodePlan
	clean func([]byte) []byte
}

// Encode encodes a value and cleans it.
func (p doorPlan) Encode(value any, buf []byte) ([]byte, error) {
	n := len(buf)
	out, err := p.EncodePlan.Encode(value, buf)
	if err != nil || out == nil {
		return out, err
	}
	return append(out[:n], p.clean(out[n:])...), nil
}

// cleanText replaces what a text of PostgreSQL cannot hold.
func cleanText(b []byte) []byte {
	if bytes.IndexByte(b, 0) < 0 && utf8.Valid(b) {
		return b
	}
	return []byte(record.Clean(string(b)))
}

// cleanJSON replaces what a jsonb cannot hold: the escape \u0000, but not the text of
// one, in which the backslash is itself escaped.
func cleanJSON(b []byte) []byte {
	if !bytes.Contains(b, []byte(`\u0000`)) {
		return cleanJSONText(b)
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		switch {
		case b[i] != '\\' || i+1 == len(b):
			out = append(out, b[i])
		case bytes.HasPrefix(b[i:], []byte(`\u0000`)):
			out = append(out, "␀"...)
			i += len(`\u0000`) - 1
		default:
			out = append(out, b[i], b[i+1])
			i++
		}
	}
	return cleanJSONText(out)
}

func cleanJSONText(b []byte) []byte {
	if utf8.Valid(b) {
		return b
	}
	return bytes.ToValidUTF8(bytes.Clone(b), []byte("�"))
}
