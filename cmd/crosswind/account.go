package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"crosswind/core/access"
	"crosswind/internal/password"
	"crosswind/internal/store"

	"github.com/spf13/cobra"
)

func accountCommand() *cobra.Command {
	var database, role, file string
	c := &cobra.Command{Use: "account LOGIN NAME", Short: "Make an account of the application", Args: args(2, 2),
		Long: "Makes an account with which somebody signs in: LOGIN, and NAME as entries of the ledger give it. The roles are examiner (does the work), custodian (keeps exhibits) and reviewer (accepts or returns reports, and does not change them). The first line of --password-file is the password; the ledger has an entry of the account.",
		RunE: func(c *cobra.Command, a []string) error {
			return makeAccount(c.Context(), database, strings.TrimSpace(a[0]), strings.TrimSpace(a[1]), role, file)
		}}
	c.Flags().StringVar(&database, "database", env("CROSSWIND_DATABASE", ""), "address of the PostgreSQL database, as the application connects; or in CROSSWIND_DATABASE")
	c.Flags().StringVar(&role, "role", string(access.Reviewer), "what the account may do: examiner, custodian or reviewer")
	c.Flags().StringVar(&file, "password-file", "", "a file whose first line is the password")
	return c
}

func makeAccount(ctx context.Context, database, login, name, role, file string) error {
	switch {
	case database == "" || file == "":
		return fmt.Errorf("%w: name the database with --database and a file with the password with --password-file", errUse)
	case login == "" || name == "":
		return fmt.Errorf("%w: a sign-in and a name are needed", errUse)
	case !slices.Contains(access.Roles, access.Role(role)):
		return fmt.Errorf("%w: there is no role %q: %v", errUse, role, access.Roles)
	}
	secret, err := firstLine(file)
	if err != nil {
		return err
	}
	if len(secret) < password.MinLength {
		return fmt.Errorf("the password in %s needs %d characters or more", file, password.MinLength)
	}
	s, err := store.Open(ctx, database, store.Options{})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := s.AddExaminer(ctx, store.Examiner{Login: login, Name: name, Role: role, PasswordHash: password.Hash(ctx, secret)}, "crosswind account", false); err != nil {
		return err
	}
	fmt.Printf("%s (%s) may sign in as %s.\n", name, login, role)
	return nil
}
