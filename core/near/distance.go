package near

// distance is the least number of steps from one text to another, where a step adds, removes or
// replaces a letter, or swaps two neighbouring ones; no letter is changed twice (the "optimal
// string alignment"). It takes time in proportion to the product of both lengths.
func distance(from, to string) int {
	a, b := []rune(from), []rune(to)
	// Of the table of distances between all beginnings of a and b, three rows are kept: for the
	// present beginning of a, for that of one letter less, and of two.
	row, before, first := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i, x := range a {
		row, before, first = first, row, before
		row[0] = i + 1
		for j, y := range b {
			replaced := before[j]
			if x != y {
				replaced++
			}
			row[j+1] = min(replaced, before[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && x == b[j-1] && y == a[i-1] {
				row[j+1] = min(row[j+1], first[j-1]+1)
			}
		}
	}
	return row[len(b)]
}
