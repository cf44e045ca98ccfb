package gate

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/ext"
)

// Bounds of one condition.
const (
	maxExpression = 4 << 10 // bytes of text
	maxCost       = 100_000 // of the language's own measure; a look at 500 pieces of evidence costs some thousands
	maxTime       = 50 * time.Millisecond
)

// condition is a compiled expression of the Common Expression Language that is true where the gate holds.
type condition struct{ program cel.Program }

// language is what expressions may speak of: the facts by their names, sizes by KiB, MiB, GiB, the functions of the
// language's own libraries for text and lists, and time.
var language = sync.OnceValues(func() (*cel.Env, error) {
	of := func(v any) *cel.Type { return cel.ObjectType(reflect.TypeOf(v).String()) }
	return cel.NewEnv(
		ext.NativeTypes(reflect.TypeFor[Image](), reflect.TypeFor[Build](), reflect.TypeFor[Standing](), reflect.TypeFor[Evidence](),
			ext.ParseStructTags(true)),
		ext.Strings(), ext.Sets(),
		cel.Variable("component", cel.StringType),
		cel.Variable("environment", cel.StringType),
		cel.Variable("from", cel.StringType),
		cel.Variable("requester", cel.StringType),
		cel.Variable("now", cel.TimestampType),
		cel.Variable("image", of(Image{})),
		cel.Variable("build", of(Build{})),
		cel.Variable("standing", of(Standing{})),
		cel.Variable("evidence", cel.ListType(of(Evidence{}))),
		cel.Variable("stood", cel.MapType(cel.StringType, cel.TimestampType)),
		cel.Variable("required", cel.ListType(cel.StringType)),
		cel.Constant("KiB", cel.IntType, types.Int(1<<10)),
		cel.Constant("MiB", cel.IntType, types.Int(1<<20)),
		cel.Constant("GiB", cel.IntType, types.Int(1<<30)),
	)
})

// compile reads an expression. The error names the place in it.
func compile(text string) (*condition, error) {
	if len(text) > maxExpression {
		return nil, fmt.Errorf("an expression of %d bytes, more than 4 KiB", len(text))
	}
	env, err := language()
	if err != nil {
		return nil, err
	}
	ast, issues := env.Compile(text)
	if err := issues.Err(); err != nil {
		first := issues.Errors()[0]
		return nil, fmt.Errorf("holds, character %d: %s", first.Location.Column()+1, first.Message)
	}
	if ast.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("holds: the expression is a %s, and must be true or false", ast.OutputType())
	}
	program, err := env.Program(ast, cel.CostLimit(maxCost), cel.InterruptCheckFrequency(100), cel.EvalOptions(cel.OptTrackCost))
	return &condition{program}, err
}

// judge evaluates the expression. What goes wrong, or costs too much, cannot be told.
func (c *condition) judge(ctx context.Context, g Gate, f Facts) Result {
	ctx, cancel := context.WithTimeout(ctx, maxTime)
	defer cancel()
	evidence := []Evidence{}
	for _, e := range f.Evidence {
		if e.valid(f.Now) {
			evidence = append(evidence, e)
		}
	}
	out, _, err := c.program.ContextEval(ctx, map[string]any{
		"component": f.Component, "environment": f.Environment, "from": f.From, "requester": f.Requester, "now": f.Now,
		"image": f.Image, "build": f.Build, "standing": f.Standing, "evidence": evidence, "stood": f.Stood, "required": f.Required,
	})
	if err != nil {
		return cannotTell(g.Refusal, "%s", why(ctx, err))
	}
	if yes, ok := out.Value().(bool); ok && yes {
		return holds("%s", g.Holds)
	}
	return doesNot(g.Refusal, "%s", g.Refusal)
}

func why(ctx context.Context, err error) string {
	switch {
	case strings.Contains(err.Error(), "cost limit"):
		return "the condition costs more than a judgement may"
	case ctx.Err() != nil && errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "the condition takes longer than a judgement may"
	}
	return "the condition asks for what is not there: " + err.Error()
}
