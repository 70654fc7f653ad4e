package crossing

import (
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/vm"

	"ferry/internal/core/value"
)

// formula is an expression over the sources of a crossing, by the letters a, b, c
// and so on: numbers are floats, bools and texts are what they are, moments and
// spans seconds.
type formula struct {
	program *vm.Program
	machine vm.VM
	env     map[string]any
}

// Bounds of a formula: nodes of its tree, and what the running of it may take up,
// in the units of the library, about one for each element of a list or text.
const (
	mostNodes  = 200
	mostMemory = 10_000
)

// builtins are the functions of the library that formulas have. Those that know a
// clock, or build lists without end, are not among them.
var builtins = []string{"abs", "ceil", "floor", "round", "max", "min", "mean", "median", "sum", "int", "float",
	"string",
	"trim", "upper", "lower", "hasPrefix", "hasSuffix", "indexOf", "len", "bitand", "bitor", "bitxor", "bitnot", "bitshl",
	"bitshr"}

// compiled are programs of formulas by the kinds of their sources and their text:
// many crossings have the same. A program does not change.
var (
	compiled sync.Map
	kept     atomic.Int64
)

const mostCompiled = 4096

// letter names the source with a number, from 0.
func letter(i int) string { return string(rune('a' + i)) }

// newFormula reads a formula over sources of such kinds. The error says what is
// wrong with it, and where.
func newFormula(text string, sources []value.Kind) (*formula, error) {
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("the formula is missing")
	}
	f := &formula{machine: vm.VM{MemoryBudget: mostMemory}, env: map[string]any{"pi": math.Pi}}
	for i, kind := range sources {
		f.env[letter(i)] = sample(kind)
	}
	key := fmt.Sprint(sources, text)
	if program, ok := compiled.Load(key); ok {
		f.program = program.(*vm.Program)
		return f, nil
	}
	options := []expr.Option{expr.Env(f.env), expr.MaxNodes(mostNodes), expr.DisableAllBuiltins(),
		expr.Function("sqrt", func(p ...any) (any, error) { return math.Sqrt(p[0].(float64)), nil },
			new(func(float64) float64)),
		expr.Function("bit", func(p ...any) (any, error) { return bitOf(p[0].(float64), p[1].(int)) },
			new(func(float64, int) bool)),
	}
	for _, name := range builtins {
		options = append(options, expr.EnableBuiltin(name))
	}
	program, err := expr.Compile(text, options...)
	if err != nil {
		return nil, fmt.Errorf("the formula cannot be read: %s", plainly(err))
	}
	f.program = program
	if kept.Add(1) > mostCompiled {
		compiled.Clear()
		kept.Store(0)
	}
	compiled.Store(key, program)
	return f, nil
}

func sample(kind value.Kind) any {
	switch kind {
	case value.Bool:
		return false
	case value.Text:
		return ""
	}
	return 0.0
}

func bitOf(word float64, bit int) (bool, error) {
	if word != math.Trunc(word) || word < 0 || word >= 1<<53 || bit < 0 || bit > 52 {
		return false, fmt.Errorf("%g has no bit %d", word, bit)
	}
	return uint64(word)>>uint(bit)&1 == 1, nil
}

// plainly takes the picture of the place off an error of the library: it says the
// column in words.
func plainly(err error) string {
	var at *file.Error
	if errors.As(err, &at) {
		return fmt.Sprintf("%s, at character %d", at.Message, at.Column+1)
	}
	first, _, _ := strings.Cut(err.Error(), "\n")
	return first
}

// work works the formula out.
func (f *formula) work(sources []value.Value) (value.Value, error) {
	for i, v := range sources {
		switch v.Kind() {
		case value.Bool:
			f.env[letter(i)] = v.Bool()
		case value.Text:
			f.env[letter(i)] = v.Text()
		default:
			f.env[letter(i)] = v.Float()
		}
	}
	out, err := f.machine.Run(f.program, f.env)
	if err != nil {
		return value.Value{}, fmt.Errorf("the formula fails: %s", plainly(err))
	}
	switch out := out.(type) {
	case bool:
		return value.OfBool(out), nil
	case string:
		return value.OfText(out), nil
	case int:
		return value.OfInt(int64(out)), nil
	case float64:
		return value.OfFloat(out), nil
	}
	return value.Value{}, fmt.Errorf("the formula gives %v, which is no number, text or state", out)
}
