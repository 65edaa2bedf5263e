module isonomos

go 1.26

require (
	github.com/agnivade/levenshtein v1.2.2 // indirect
	github.com/urfave/cli/v3 v3.14.0 // indirect
)
