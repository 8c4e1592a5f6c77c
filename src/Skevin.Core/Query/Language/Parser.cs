namespace Skevin.Core.Query.Language;

/// <summary>Text → tree.</summary>
public sealed partial class Parser
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

    /// <summary>What is wrong with an enquiry as text, with its place; null where it can be read.</summary>
    public static string? Mistake(string? text)
    {
        if (string.IsNullOrWhiteSpace(text))
            return "text, the enquiry, is empty.";
        try
        {
            Read(text);
            return null;
        }
        catch (EnquiryException wrong)
        {
            return $"line {wrong.Error.Line}, column {wrong.Error.Column} of the enquiry: {wrong.Error.Message.Split(" Steps:")[0]}";
        }
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
        var formula = token.Kind == TokenKind.Number || IsSymbol("(") || IsSymbol("-") || IsFunction
            || (token.Kind is TokenKind.Name or TokenKind.QuotedName && (before.Any(part => part.Name == token.Text) || _tokens[_at + 1] is { Kind: TokenKind.Symbol, Text: "+" or "-" or "*" or "/" }));
        if (formula)
            return new FormulaSource(Sum(before), token.At);
        if (token.Kind == TokenKind.QuotedName)
            return new MetricSource(Take().Text, token.At);
        if (token.Kind != TokenKind.Name)
            throw Wrong("An enquiry begins with a source, for example the name of a metric.", "container.cpu.time");
        _at++;
        return Words.RowSources.TryGetValue(token.Text, out var kind) ? new RowSource(kind, token.At) : new MetricSource(token.Text, token.At);
    }

    private bool IsFunction => Next.Kind == TokenKind.Name && JoinedFormula.Functions.ContainsKey(Next.Text) && _tokens[_at + 1] is { Kind: TokenKind.Symbol, Text: "(" };

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
            if (IsFunction)
            {
                _at += 2;
                var left = Sum(before);
                if (!IsSymbol(","))
                    throw Wrong($"{token.Text} takes two values with a comma between them.");
                _at++;
                var right = Sum(before);
                if (!IsSymbol(")"))
                    throw Wrong("Expected ')'.");
                _at++;
                return new JoinedFormula(left, JoinedFormula.Functions[token.Text], right, token.At);
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
}
