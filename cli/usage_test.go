package cli

import (
	"context"
	"io"
	"regexp"
	"testing"

	"github.com/urfave/cli/v3"
)

// What is wrong with flags is told in our words, made from the texts of the package that reads
// them: it has no types for these errors. A version of it with other texts fails here.
func TestTextsOfUsageErrors(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		args  []string
		text  *regexp.Regexp
		parts []string
	}{
		{[]string{"--colour", "never"}, undefinedFlag, []string{"colour"}},
		{[]string{"--to"}, missingValue, []string{"-to"}},
		{[]string{"--limit", "many"}, badValue, []string{`"many"`, "-limit", notANumber.String()}},
		{[]string{"--limit=99999999999999999999"}, badValue, []string{`"9{20}"`, "-limit", notANumber.String()}},
		{[]string{"--only", "x"}, badValue, []string{`"x"`, "-only", "one of a, b"}},
		{[]string{"--only", `a "b" c`}, badValue, []string{`^"a \\"b\\" c"$`, "-only", "one of a, b"}},
	} {
		var got error
		command := &cli.Command{Name: "program", Writer: io.Discard, ErrWriter: io.Discard,
			Flags: []cli.Flag{&cli.IntFlag{Name: "limit"}, &cli.StringFlag{Name: "to"},
				&cli.StringFlag{Name: "only", Validator: oneOf("a", "b")}},
			OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
				got = err
				return err
			}}
		_ = command.Run(t.Context(), append([]string{"program"}, x.args...))
		if got == nil {
			t.Errorf("%q is no usage error", x.args)
			continue
		}
		found := x.text.FindStringSubmatch(got.Error())
		if found == nil {
			t.Errorf("%q: %q is not of the form %s", x.args, got, x.text)
			continue
		}
		for i, part := range x.parts {
			if !regexp.MustCompile(part).MatchString(found[i+1]) {
				t.Errorf("%q: %q instead of %q, in %q", x.args, found[i+1], part, got)
			}
		}
	}
}
