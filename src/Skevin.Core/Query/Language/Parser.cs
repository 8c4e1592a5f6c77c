using System.Net;

namespace Skevin.Core.Query.Language;

/// <summary>Text → tree.</summary>
public sealed class Parser
{
    private const int MaxDepth = 200;

    private readonly string _text;
    private readonly List<Token> _tokens;
    private int _at;
    private int _depth;

    private Parser(string text)
    {
        _text = text;
        _tokens = Lexer.Read(text);
    }

    /// <summary>Reads an enquiry.</summary>
    /// <exception cref="EnquiryException">With line, column, word, what was expected and a suggestion.</exception>
    public static Enquiry Read(string text)
    {
        var parser = new Parser(text);
        var parts = new List<Part>();
        while (true)
        {
            while (parser.Next.Kind == TokenKind.Separator)
                parser._at++;
            if (parser.Next.Kind == TokenKind.End && parts.Count > 0)
                break;
            parts.Add(parser.Part(parts));
            if (parser.Next.Kind == TokenKind.End)
                break;
            if (parser.Next.Kind != TokenKind.Separator)
                throw parser.Wrong("Expected -> and the next step, or the end.", parser.Next.Kind == TokenKind.Name ? $"-> {parser.Next.Text}" : null);
        }
        foreach (var part in parts.SkipLast(1))
            if (part.Name is null)
                throw new EnquiryException(new(part.At.Line, part.At.Column, "", "Only the last body may stand without a name; the others are called by theirs.", "name: …"));
        return new Enquiry(parts);
    }

    private Part Part(List<Part> before)
    {
        var at = Next.At;
        string? name = null;
        if (Next.Kind is TokenKind.Name or TokenKind.QuotedName && _tokens[_at + 1] is { Kind: TokenKind.Symbol, Text: ":" })
        {
            name = Next.Text;
            if (before.Any(part => part.Name == name))
                throw Wrong($"There are two parts named {name}.");
            _at += 2;
            while (Next.Kind == TokenKind.Separator && Next.Text == "\n")
                _at++;
        }
        var source = Source(before);
        var steps = new List<Step>();
        while (Next.Kind == TokenKind.Arrow)
        {
            _at++;
            steps.Add(Step());
        }
        return new Part(name, new Body(source, steps), at);
    }

    /// <summary>Reads a duration such as <c>15s</c>, <c>5m</c>, <c>2h</c>, <c>7d</c>.</summary>
    /// <returns>Null where the text is none.</returns>
    public static TimeSpan? Duration(string text)
    {
        try
        {
            var tokens = Lexer.Read(text);
            return tokens is [{ Kind: TokenKind.Number } number, _] ? Units.Duration(number.Number, number.Text) : null;
        }
        catch (EnquiryException)
        {
            return null;
        }
    }

    private Token Next => _tokens[_at];

    private bool Is(string word) => Next.Kind == TokenKind.Name && Next.Text == word;

    private bool IsSymbol(string symbol) => Next.Kind == TokenKind.Symbol && Next.Text == symbol;

    private Token Take() => _tokens[_at++];

    private EnquiryException Wrong(string message, string? suggestion = null, Token? token = null)
    {
        var here = token ?? Next;
        var word = here.Kind == TokenKind.Separator ? "" : _text.Substring(here.At.Offset, here.Length);
        return new EnquiryException(new EnquiryError(here.At.Line, here.At.Column, word, message, suggestion));
    }

    private Source Source(List<Part> before)
    {
        var token = Next;
        var formula = token.Kind == TokenKind.Number || IsSymbol("(") || IsSymbol("-")
            || (token.Kind is TokenKind.Name or TokenKind.QuotedName && (before.Any(part => part.Name == token.Text) || _tokens[_at + 1] is { Kind: TokenKind.Symbol, Text: "+" or "-" or "*" or "/" }));
        if (formula)
            return new FormulaSource(Sum(before), token.At);
        if (token.Kind == TokenKind.QuotedName)
            return new MetricSource(Take().Text, token.At);
        if (token.Kind != TokenKind.Name)
            throw Wrong("An enquiry begins with a source, for example the name of a metric.", "container.cpu.time");
        if (Words.SourcesToCome.Contains(token.Text))
            throw Wrong($"'{token.Text}' is a source of the language that is not answered yet; metrics, logs, spans, flows and events are.");
        _at++;
        return Words.RowSources.TryGetValue(token.Text, out var kind) ? new RowSource(kind, token.At) : new MetricSource(token.Text, token.At);
    }

    // In a formula the names are those of parts before it; in set (null) they are fields, and a text may stand too.
    private Formula Sum(List<Part>? before)
    {
        var left = Product(before);
        while (IsSymbol("+") || IsSymbol("-"))
        {
            var token = Take();
            left = new JoinedFormula(left, token.Text[0], Product(before), token.At);
        }
        return left;
    }

    private Formula Product(List<Part>? before)
    {
        var left = Factor(before);
        while (IsSymbol("*") || IsSymbol("/"))
        {
            var token = Take();
            left = new JoinedFormula(left, token.Text[0], Factor(before), token.At);
        }
        return left;
    }

    private Formula Factor(List<Part>? before)
    {
        if (++_depth > MaxDepth)
            throw Wrong("The formula is nested too deeply.");
        try
        {
            var token = Next;
            if (IsSymbol("("))
            {
                _at++;
                var inner = Sum(before);
                if (!IsSymbol(")"))
                    throw Wrong("Expected ')'.");
                _at++;
                return inner;
            }
            if (IsSymbol("-") && _tokens[_at + 1].Kind == TokenKind.Number)
            {
                _at++;
                var negative = Take();
                return new NumberFormula(-negative.Number, negative.Text);
            }
            if (token.Kind == TokenKind.Number)
            {
                if (token.Text.Length > 0 && !Units.Suffixes.ContainsKey(token.Text))
                    throw Wrong($"'{token.Text}' is not a known unit.");
                _at++;
                return new NumberFormula(token.Number, token.Text);
            }
            if (token.Kind is TokenKind.Name or TokenKind.QuotedName)
            {
                if (before is not null && before.All(part => part.Name != token.Text))
                    throw Wrong($"No part is named {token.Text}.", Words.Nearest(token.Text, before.Select(part => part.Name).OfType<string>()));
                _at++;
                return new NamedFormula(token.Text, token.At);
            }
            if (before is null && token.Kind == TokenKind.Text)
            {
                _at++;
                return new TextFormula(token.Text, token.At);
            }
            throw Wrong(before is null ? "Expected a field, a number, a text or '('." : "Expected the name of a part, a number or '('.");
        }
        finally
        {
            _depth--;
        }
    }

    private Step Step()
    {
        var token = Next;
        if (token.Kind != TokenKind.Name)
            throw Wrong("Expected a step after ->, for example where, rate or sum.");
        var word = token.Text;
        if (word == "where")
        {
            _at++;
            return new WhereStep(Or(), token.At);
        }
        if (word is "rate" or "rise")
        {
            _at++;
            return new RiseStep(word == "rate", Every(), token.At);
        }
        if (word == "change")
        {
            _at++;
            return new ChangeStep(Every(), token.At);
        }
        if (word is "highest" or "lowest")
        {
            _at++;
            if (Next is not { Kind: TokenKind.Number, Text: "" } || Next.Number is < 1 or > 10_000 || Next.Number % 1 != 0)
                throw Wrong($"Expected how many series to keep after '{word}'.", $"{word} 5");
            var count = (int)Take().Number;
            var by = new Function(FunctionKind.Mean);
            if (Is("by"))
            {
                _at++;
                by = Function("to rank by");
            }
            return new RankStep(word == "highest", count, by, token.At);
        }
        // "first 5" is the step, "first" without a number a function.
        if (word == "first" && _tokens[_at + 1].Kind == TokenKind.Number)
        {
            _at++;
            if (Next.Text.Length > 0 || Next.Number is < 1 or > 1_000_000 || Next.Number % 1 != 0)
                throw Wrong("Expected how many rows to keep.", "first 100");
            return new FirstStep((int)Take().Number, token.At);
        }
        if (Words.FunctionOf(word) is { } function)
        {
            _at++;
            string? field = null;
            if (Next.Kind == TokenKind.QuotedName || (Next.Kind == TokenKind.Name && !Is("by") && !Is("except") && !Is("every")))
                field = Take().Text;
            Grouping? grouping = null;
            if (Is("by") || Is("except"))
                grouping = new Grouping(Take().Text == "except", Fields());
            return new AggregateStep(function, field, grouping, Every(), token.At);
        }
        switch (word)
        {
            case "show":
                _at++;
                return new ShowStep(Fields(), token.At);
            case "order":
                _at++;
                var by = Field();
                var down = Is("down");
                if (down)
                    _at++;
                return new OrderStep(by, down, token.At);
            case "traces":
                _at++;
                return new TracesStep(token.At);
            case "graph":
                _at++;
                var addresses = Is("addresses");
                if (addresses)
                    _at++;
                return new GraphStep(addresses, token.At);
            case "over":
                _at++;
                return new OverStep(Stretch("over 10m max"), Function("of that stretch"), token.At);
            case "shift":
                _at++;
                return new ShiftStep(Stretch("shift 7d"), token.At);
            case "gaps":
                _at++;
                if (!Is("zero") && !Is("hold"))
                    throw Wrong("Expected what stands in empty slots: zero, or hold for the value before.", Words.Nearest(Next.Text, ["zero", "hold"]) ?? "gaps zero");
                return new GapsStep(Take().Text == "hold", token.At);
            case "parse":
                _at++;
                return Parse(token);
            case "set":
                _at++;
                var name = Field();
                if (!IsSymbol("="))
                    throw Wrong("Expected '=' and what the field is.", $"set {Formatter.Name(name)} = duration * 1000");
                _at++;
                return new SetStep(name, Sum(null), token.At);
            case "kinds":
                _at++;
                return new KindsStep(token.At);
            case "differ":
                _at++;
                if (!Is("where"))
                    throw Wrong("Expected 'where' and the condition whose rows are compared with the rest.", "differ where status = \"error\"");
                _at++;
                return new DifferStep(Or(), token.At);
            case "as":
                _at++;
                if (Next.Kind is not (TokenKind.Name or TokenKind.QuotedName) || (Next.Kind == TokenKind.Name && Next.Text != "percent" && !Units.Suffixes.ContainsKey(Next.Text)))
                    throw Wrong("Expected a unit after 'as'.", "as percent");
                return new UnitStep(Take().Text, token.At);
        }
        throw Wrong($"'{word}' is not a step. Steps: {string.Join(", ", Words.Steps)}.", Words.Nearest(word, Words.Steps));
    }

    private ParseStep Parse(Token step)
    {
        string? pattern = null;
        if (Is("json"))
        {
            _at++;
        }
        else if (Next.Kind == TokenKind.Text)
        {
            if (TextPattern.Wrong(Next.Text) is { } wrong)
                throw Wrong(wrong, "\"sold lot {lot} for {price:number}\"");
            pattern = Take().Text;
        }
        else
        {
            throw Wrong("Expected json, or a pattern in double quotes.", "parse \"sold lot {lot} for {price:number}\"");
        }
        if (!Is("from"))
            return new ParseStep(pattern, null, step.At);
        _at++;
        return new ParseStep(pattern, Field(), step.At);
    }

    private Function Function(string what)
    {
        if (Next.Kind != TokenKind.Name || Words.FunctionOf(Next.Text) is not { } function)
            throw Wrong($"Expected a function {what}: {string.Join(", ", Words.Functions.Keys)}.", Words.Nearest(Next.Text, Words.Functions.Keys));
        _at++;
        return function;
    }

    private TimeSpan Stretch(string example)
    {
        if (Next.Kind == TokenKind.Number && Units.Duration(Next.Number, Next.Text) is { } stretch && stretch >= TimeSpan.FromSeconds(1))
        {
            _at++;
            return stretch;
        }
        throw Wrong("Expected a duration of at least 1s.", example);
    }

    private List<string> Fields()
    {
        var names = new List<string> { Field() };
        while (IsSymbol(","))
        {
            _at++;
            names.Add(Field());
        }
        return names;
    }

    private TimeSpan? Every()
    {
        if (!Is("every"))
            return null;
        _at++;
        if (Next.Kind == TokenKind.Number && Units.Duration(Next.Number, Next.Text) is { } width && width >= TimeSpan.FromSeconds(1))
        {
            _at++;
            return width;
        }
        throw Wrong("Expected a duration of at least 1s after 'every'.", "every 1m");
    }

    private string Field()
    {
        if (Next.Kind is TokenKind.Name or TokenKind.QuotedName)
            return Take().Text;
        throw Wrong("Expected a field, for example namespace or pod.", Next.Kind == TokenKind.Text ? "Names of fields stand without quotes." : null);
    }

    private Predicate Or()
    {
        var left = And();
        while (Is("or"))
        {
            _at++;
            left = new OrPredicate(left, And());
        }
        return left;
    }

    private Predicate And()
    {
        var left = Not();
        while (Is("and"))
        {
            _at++;
            left = new AndPredicate(left, Not());
        }
        return left;
    }

    private Predicate Not()
    {
        if (++_depth > MaxDepth)
            throw Wrong("The condition is nested too deeply.");
        try
        {
            if (Is("not"))
            {
                _at++;
                return new NotPredicate(Not());
            }
            if (IsSymbol("("))
            {
                _at++;
                var inner = Or();
                if (!IsSymbol(")"))
                    throw Wrong("Expected ')'.");
                _at++;
                return inner;
            }
            return FieldComparison();
        }
        finally
        {
            _depth--;
        }
    }

    private FieldPredicate FieldComparison()
    {
        var at = Next.At;
        if (Next.Kind == TokenKind.Name && Words.InPredicates.Contains(Next.Text))
            throw Wrong($"Expected a field before '{Next.Text}'.");
        var field = Field();
        var token = Next;
        if (token.Kind == TokenKind.Symbol)
        {
            Comparison? comparison = token.Text switch
            {
                "=" => Comparison.Equal,
                "!=" => Comparison.NotEqual,
                "<" => Comparison.Less,
                "<=" => Comparison.LessOrEqual,
                ">" => Comparison.Greater,
                ">=" => Comparison.GreaterOrEqual,
                _ => null,
            };
            if (comparison is { } found)
            {
                _at++;
                return new FieldPredicate(field, found, [Value()], at);
            }
        }
        if (token.Kind == TokenKind.Name)
        {
            switch (token.Text)
            {
                case "exists":
                    _at++;
                    return new FieldPredicate(field, Comparison.Exists, [], at);
                case "says":
                    _at++;
                    if (Next.Kind != TokenKind.Text || Blocks.WordFilter.Words(Next.Text).Count == 0)
                        throw Wrong("Expected words in double quotes after 'says'.", Next.Kind == TokenKind.Name ? $"\"{Next.Text}\"" : null);
                    return new FieldPredicate(field, Comparison.Says, [new TextValue(Take().Text)], at);
                case "inside":
                    return new FieldPredicate(field, Comparison.Inside, [new TextValue(Network())], at);
                case "like" or "matches":
                    _at++;
                    if (Next.Kind != TokenKind.Text)
                        throw Wrong($"Expected text in double quotes after '{token.Text}'.", Next.Kind == TokenKind.Name ? $"\"{Next.Text}\"" : null);
                    var pattern = Take();
                    if (token.Text == "matches" && LinearPattern.Compile(pattern.Text) is null)
                        throw Wrong("This is not a regular expression that can be matched in linear time.", null, pattern);
                    return new FieldPredicate(field, token.Text == "like" ? Comparison.Like : Comparison.Matches, [new TextValue(pattern.Text)], at);
                case "in":
                    _at++;
                    if (!IsSymbol("("))
                        throw Wrong("Expected '(' and the values after 'in'.", $"{field} in (\"a\", \"b\")");
                    _at++;
                    var values = new List<Value> { Value() };
                    while (IsSymbol(","))
                    {
                        _at++;
                        values.Add(Value());
                    }
                    if (!IsSymbol(")"))
                        throw Wrong("Expected ',' or ')'.");
                    _at++;
                    return new FieldPredicate(field, Comparison.In, values, at);
            }
        }
        throw Wrong($"Expected a comparison after '{field}': =, !=, <, <=, >, >=, in, like, matches, says, inside or exists.",
            token.Kind == TokenKind.Name ? Words.Nearest(token.Text, Words.Comparisons) : $"{field} = \"…\"");
    }

    private string Network()
    {
        _at++;
        if (Next.Kind != TokenKind.Text || (!IPNetwork.TryParse(Next.Text, out _) && !IPAddress.TryParse(Next.Text, out _)))
            throw Wrong("Expected a network after 'inside'.", "10.0.0.0/8");
        return Take().Text;
    }

    private Value Value()
    {
        if (Next.Kind == TokenKind.Text)
            return new TextValue(Take().Text);
        var sign = 1;
        if (IsSymbol("-"))
        {
            sign = -1;
            _at++;
        }
        if (Next.Kind == TokenKind.Number)
        {
            var token = Take();
            return new NumberValue(sign * token.Number, token.Text);
        }
        throw Wrong("Expected a value: text in double quotes or a number.", Next.Kind == TokenKind.Name ? $"\"{Next.Text}\"" : null);
    }
}
