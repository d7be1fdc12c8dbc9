package store

import (
	"fmt"

	"github.com/jackc/pgx/v5/pgtype"
)

// Array is a PostgreSQL array of T, as database/sql reads it.
type Array[T any] []T

var types = pgtype.NewMap()

// Scan reads an array as the driver gives it.
func (a *Array[T]) Scan(src any) error {
	if err := types.SQLScanner((*[]T)(a)).Scan(src); err != nil {
		return fmt.Errorf("reading an array: %w", err)
	}
	return nil
}

// param is a as a query's argument: an empty array for none, not NULL.
func (a Array[T]) param() []T {
	if a == nil {
		return []T{}
	}
	return a
}
