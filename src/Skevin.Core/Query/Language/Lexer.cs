using System.Globalization;
using System.Text;

namespace Skevin.Core.Query.Language;

/// <summary>Kinds of word in an enquiry.</summary>
public enum TokenKind
{
    /// <summary>A name or a word of the grammar.</summary>
    Name,

    /// <summary>A name in backquotes: never a word of the grammar.</summary>
    QuotedName,

    /// <summary>Text in double quotes, unescaped.</summary>
    Text,

    /// <summary>A number with its unit suffix.</summary>
    Number,

    /// <summary><c>-></c></summary>
    Arrow,

    /// <summary>An operator or bracket.</summary>
    Symbol,

    /// <summary>A line break that ends a body, or <c>;</c>.</summary>
    Separator,

    /// <summary>The end of the text.</summary>
    End,
}

/// <summary>A word of an enquiry.</summary>
/// <param name="Kind">What it is.</param>
/// <param name="Text">Its text: unescaped for text and quoted names, the unit suffix for numbers.</param>
/// <param name="At">Where it stands.</param>
/// <param name="Length">Characters in the source text.</param>
/// <param name="Number">The number, for <see cref="TokenKind.Number"/>.</param>
public readonly record struct Token(TokenKind Kind, string Text, Position At, int Length, double Number = 0);

/// <summary>Splits the text of an enquiry into words.</summary>
public static class Lexer
{
    /// <summary>Longest text that is read, in characters.</summary>
    public const int MaxLength = 20_000;

    private static readonly string[] Symbols = ["!=", "<=", ">=", "=", "<", ">", "(", ")", ",", ":", "+", "-", "*", "/"];

    /// <summary>All words, ending with <see cref="TokenKind.End"/>.</summary>
    /// <exception cref="EnquiryException">A character or an unclosed quote that cannot be read.</exception>
    public static List<Token> Read(string text)
    {
        if (text.Length > MaxLength)
            throw new EnquiryException(new(1, 1, "", $"The enquiry is longer than {MaxLength} characters.", null));
        var tokens = new List<Token>();
        var at = 0;
        var line = 1;
        var lineStart = 0;
        Position Here() => new(at, line, at - lineStart + 1);
        while (at < text.Length)
        {
            var c = text[at];
            if (c == '\n')
            {
                if (tokens.Count > 0 && tokens[^1].Kind is not (TokenKind.Separator or TokenKind.Arrow))
                    tokens.Add(new Token(TokenKind.Separator, "\n", Here(), 1));
                at++;
                line++;
                lineStart = at;
            }
            else if (char.IsWhiteSpace(c))
            {
                at++;
            }
            else if (c == '#')
            {
                while (at < text.Length && text[at] != '\n')
                    at++;
            }
            else if (c == ';')
            {
                tokens.Add(new Token(TokenKind.Separator, ";", Here(), 1));
                at++;
            }
            else if (text.AsSpan(at).StartsWith("->"))
            {
                // A line break followed by an arrow does not end the body.
                if (tokens.Count > 0 && tokens[^1] is { Kind: TokenKind.Separator, Text: "\n" })
                    tokens.RemoveAt(tokens.Count - 1);
                tokens.Add(new Token(TokenKind.Arrow, "->", Here(), 2));
                at += 2;
            }
            else if (c is '"' or '`')
            {
                tokens.Add(Quoted(text, ref at, Here(), c));
            }
            else if (char.IsAsciiDigit(c))
            {
                tokens.Add(Number(text, ref at, Here()));
            }
            else if (char.IsLetter(c) || c == '_')
            {
                var start = Here();
                var from = at;
                while (at < text.Length && (char.IsLetterOrDigit(text[at]) || text[at] == '_'
                    || (text[at] == '.' && at + 1 < text.Length && (char.IsLetterOrDigit(text[at + 1]) || text[at + 1] == '_'))))
                    at++;
                tokens.Add(new Token(TokenKind.Name, text[from..at], start, at - from));
                if (text.AsSpan(from, at - from) is "inside" && tokens.Count > 1 && tokens[^2].Kind is (TokenKind.Name or TokenKind.QuotedName))
                    Network(text, ref at, Here, tokens);
            }
            else if (Symbols.FirstOrDefault(symbol => text.AsSpan(at).StartsWith(symbol)) is { } found)
            {
                tokens.Add(new Token(TokenKind.Symbol, found, Here(), found.Length));
                at += found.Length;
            }
            else
            {
                var here = Here();
                throw new EnquiryException(new(here.Line, here.Column, c.ToString(),
                    $"'{c}' has no meaning here.", c == '\'' ? "Text stands in double quotes." : c == '|' ? "Steps are joined with ->." : null));
            }
        }
        while (tokens.Count > 0 && tokens[^1].Kind == TokenKind.Separator)
            tokens.RemoveAt(tokens.Count - 1);
        tokens.Add(new Token(TokenKind.End, "", Here(), 0));
        return tokens;
    }

    // A network's characters are no words of the language: it is read up to the next blank or bracket.
    private static void Network(string text, ref int at, Func<Position> here, List<Token> tokens)
    {
        while (at < text.Length && (text[at] is ' ' or '\t'))
            at++;
        if (at >= text.Length || !(char.IsAsciiHexDigit(text[at]) || text[at] == ':'))
            return;
        var (start, from) = (here(), at);
        while (at < text.Length && !char.IsWhiteSpace(text[at]) && text[at] is not (')' or ';'))
            at++;
        tokens.Add(new Token(TokenKind.Text, text[from..at], start, at - from));
    }

    private static Token Quoted(string text, ref int at, Position start, char quote)
    {
        var from = at++;
        var value = new StringBuilder();
        while (at < text.Length && text[at] != quote && text[at] != '\n')
        {
            if (quote == '"' && text[at] == '\\' && at + 1 < text.Length && text[at + 1] is ('"' or '\\'))
                at++;
            value.Append(text[at++]);
        }
        if (at >= text.Length || text[at] != quote)
            throw new EnquiryException(new(start.Line, start.Column, text[from..at], "The quote is not closed on its line.", $"Add {quote} at the end."));
        at++;
        return new Token(quote == '"' ? TokenKind.Text : TokenKind.QuotedName, value.ToString(), start, at - from);
    }

    private static Token Number(string text, ref int at, Position start)
    {
        var from = at;
        while (at < text.Length && char.IsAsciiDigit(text[at]))
            at++;
        if (at + 1 < text.Length && text[at] == '.' && char.IsAsciiDigit(text[at + 1]))
        {
            at++;
            while (at < text.Length && char.IsAsciiDigit(text[at]))
                at++;
        }
        // An exponent only counts where digits follow, so that "2e" reads as a number with a suffix.
        if (at < text.Length && text[at] is ('e' or 'E'))
        {
            var digits = at + 1 < text.Length && text[at + 1] is ('+' or '-') ? at + 2 : at + 1;
            if (digits < text.Length && char.IsAsciiDigit(text[digits]))
            {
                at = digits;
                while (at < text.Length && char.IsAsciiDigit(text[at]))
                    at++;
            }
        }
        var number = double.Parse(text.AsSpan(from, at - from), NumberStyles.Float, CultureInfo.InvariantCulture);
        var suffix = at;
        while (at < text.Length && (char.IsLetter(text[at]) || text[at] == '%'))
            at++;
        return new Token(TokenKind.Number, text[suffix..at], start, at - from, number);
    }
}
