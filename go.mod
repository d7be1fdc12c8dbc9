module crosswind

go 1.26.0

require golang.org/x/crypto v0.58.0

require golang.org/x/sys v0.49.0 // indirect
