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

    /// <summary>Reads one enquiry.</summary>
    /// <exception cref="EnquiryException">With line, column, word, what was expected and a suggestion.</exception>
    public static Enquiry Read(string text)
    {
        var parser = new Parser(text);
        var source = parser.Source();
        var steps = new List<Step>();
        while (parser.Next.Kind == TokenKind.Arrow)
        {
            parser._at++;
            steps.Add(parser.Step());
        }
        if (parser.Next.Kind == TokenKind.Separator)
            throw parser.Wrong("A second part begins here. Formulas of several parts are not answered yet.", "Ask one body at a time.");
        if (parser.Next.Kind != TokenKind.End)
            throw parser.Wrong("Expected -> and the next step, or the end.", parser.Next.Kind == TokenKind.Name ? $"-> {parser.Next.Text}" : null);
        return new Enquiry(source, steps);
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

    private MetricSource Source()
    {
        var token = Next;
        if (token.Kind == TokenKind.QuotedName)
            return new MetricSource(Take().Text, token.At);
        if (token.Kind != TokenKind.Name)
            throw Wrong("An enquiry begins with a source, for example the name of a metric.", "container.cpu.time");
        if (Words.SourcesToCome.Contains(token.Text))
            throw Wrong($"'{token.Text}' is a source of the language that is not answered yet; metrics are.");
        _at++;
        if (IsSymbol(":"))
            throw Wrong("Named parts are not answered yet.", "Ask one body without a name.", token);
        return new MetricSource(token.Text, token.At);
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
        if (word is "highest" or "lowest")
        {
            _at++;
            if (Next is not { Kind: TokenKind.Number, Text: "" } || Next.Number is < 1 or > 10_000 || Next.Number % 1 != 0)
                throw Wrong($"Expected how many series to keep after '{word}'.", $"{word} 5");
            var count = (int)Take().Number;
            var by = Aggregate.Mean;
            if (Is("by"))
            {
                _at++;
                if (Next.Kind != TokenKind.Name || !Words.Functions.TryGetValue(Next.Text, out by))
                    throw Wrong("Expected a function to rank by: " + string.Join(", ", Words.Functions.Keys) + ".", Words.Nearest(Next.Text, Words.Functions.Keys));
                _at++;
            }
            return new RankStep(word == "highest", count, by, token.At);
        }
        if (Words.Functions.TryGetValue(word, out var function))
        {
            _at++;
            Grouping? grouping = null;
            if (Is("by") || Is("except"))
            {
                var except = Take().Text == "except";
                var names = new List<string> { Field() };
                while (IsSymbol(","))
                {
                    _at++;
                    names.Add(Field());
                }
                grouping = new Grouping(except, names);
            }
            return new AggregateStep(function, grouping, Every(), token.At);
        }
        if (Words.StepsToCome.Contains(word) || (word.StartsWith('p') && word.Length > 1 && word[1..].All(c => char.IsAsciiDigit(c) || c == '.')))
            throw Wrong($"'{word}' is a step of the language that is not answered yet.");
        throw Wrong($"'{word}' is not a step. Steps: {string.Join(", ", Words.Steps)}.", Words.Nearest(word, Words.Steps));
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
            if (Words.ComparisonsToCome.Contains(token.Text))
                throw Wrong($"'{token.Text}' is a comparison of the language that is not answered yet.");
        }
        throw Wrong($"Expected a comparison after '{field}': =, !=, <, <=, >, >=, in, like, matches or exists.",
            token.Kind == TokenKind.Name ? Words.Nearest(token.Text, Words.Comparisons) : $"{field} = \"…\"");
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
