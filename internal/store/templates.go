package store

import (
	"context"
	"crypto/sha256"
	"fmt"
	"time"

	"crosswind/core/report"
)

// ReportTemplate is how reports are arranged, by a name.
type ReportTemplate struct {
	Name, Body, By string
	At             time.Time
	report.Composition
}

// mostTemplates bounds the templates that are listed.
const mostTemplates = 200

// ReportTemplates lists the templates by name.
func (s *Store) ReportTemplates(ctx context.Context) (out []ReportTemplate, err error) {
	err = s.list(ctx, &out, "listing the templates", "SELECT * FROM report_template ORDER BY name LIMIT $1", mostTemplates)
	return out, err
}

// ReportTemplate finds a template by its name.
func (s *Store) ReportTemplate(ctx context.Context, name string) (*ReportTemplate, error) {
	t := &ReportTemplate{}
	if err := s.get(ctx, t, fmt.Sprintf("the template %q", name), "SELECT * FROM report_template WHERE name = $1", name); err != nil {
		return nil, err
	}
	c, err := report.Decode([]byte(t.Body))
	if err != nil {
		return nil, fmt.Errorf("the template %q: %w", name, err)
	}
	t.Composition = *c
	return t, nil
}

// SaveReportTemplate keeps a template; one of the same name gives way to it.
func (s *Store) SaveReportTemplate(ctx context.Context, name string, c *report.Composition, by string) error {
	b, err := c.Encode()
	if err != nil {
		return err
	}
	return s.Change(ctx, func(t *Tx) error {
		at, err := t.log(Act{Bench, by, "report_template.kept", name, map[string]string{"sha256": fmt.Sprintf("%x", sha256.Sum256(b))}})
		if err != nil {
			return err
		}
		return t.exec("keeping a template", "INSERT INTO report_template(name, body, by, at) VALUES ($1, $2, $3, $4) ON CONFLICT (name) DO UPDATE SET body = excluded.body, by = excluded.by, at = excluded.at", name, string(b), by, at)
	})
}
