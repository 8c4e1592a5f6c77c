using System.Net;

namespace Skevin.Core.Query.Language;

// Conditions of where and differ.
public sealed partial class Parser
{
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
