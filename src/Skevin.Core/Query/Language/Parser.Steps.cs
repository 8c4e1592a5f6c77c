namespace Skevin.Core.Query.Language;

// Steps.
public sealed partial class Parser
{
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
}
