module isonomos

go 1.26
