using CsCheck;
using Skevin.Core.Query.Language;

namespace Skevin.Core.Tests.Query;

public sealed class LanguageTests
{
    private static EnquiryError Wrong(string text) => Should.Throw<EnquiryException>(() => Parser.Read(text)).Error;

    [Fact]
    public void The_languages_own_example_is_read()
    {
        // query-language.md, first example.
        var enquiry = Parser.Read("""
            container.cpu.time
              -> where namespace = "auction" and container exists
              -> rate
              -> sum by pod
              -> highest 5
            """);
        enquiry.Answered.Source.ShouldBe(new MetricSource("container.cpu.time", default));
        enquiry.Answered.Steps.Count.ShouldBe(4);
        enquiry.Answered.Steps[0].ShouldBeOfType<WhereStep>().Predicate.ShouldBeOfType<AndPredicate>();
        enquiry.Answered.Steps[3].ShouldBe(new RankStep(true, 5, new Function(FunctionKind.Mean), default));
    }

    [Theory]
    [InlineData("a -> rate every 1m # by the minute", "a\n  -> rate every 1m")]
    [InlineData("a -> sum by namespace, `odd name` every 90s", "a\n  -> sum by namespace, `odd name` every 90s")]
    [InlineData("a -> where not (b = 1 or c != \"x\\\"y\") and d in (\"e\", 2.5)", "a\n  -> where not (b = 1 or c != \"x\\\"y\") and d in (\"e\", 2.5)")]
    [InlineData("`odd metric` -> lowest 3 by max", "`odd metric`\n  -> lowest 3 by max")]
    [InlineData("site.2.doors -> where temperature < -18Cel", "site.2.doors\n  -> where temperature < -18Cel")]
    [InlineData("a -> max every 60s", "a\n  -> max every 1m")]
    [InlineData("logs -> where text says \"lot refused\" -> count by level every 1m", "logs\n  -> where text says \"lot refused\"\n  -> count by level every 1m")]
    [InlineData("flows -> where (source.address inside 2001:db8:1::/64) and destination.address inside \"10.0.0.0/8\" -> graph addresses", "flows\n  -> where source.address inside 2001:db8:1::/64 and destination.address inside 10.0.0.0/8\n  -> graph addresses")]
    [InlineData("spans -> p99.9 duration by service -> as ms", "spans\n  -> p99.9 duration by service\n  -> as ms")]
    [InlineData("spans -> show time, name -> order time down -> first 5", "spans\n  -> show time, name\n  -> order time down\n  -> first 5")]
    [InlineData("a -> change every 60s -> over 600s p99 -> shift 7d -> gaps hold", "a\n  -> change every 1m\n  -> over 10m p99\n  -> shift 7d\n  -> gaps hold")]
    [InlineData("logs -> parse json from body -> parse \"sold {lot}\" -> set slow = (took - 2) * -3ms / `odd name` -> set who = \"a\"", "logs\n  -> parse json from body\n  -> parse \"sold {lot}\"\n  -> set slow = (took - 2) * -3ms / `odd name`\n  -> set who = \"a\"")]
    [InlineData("logs -> kinds -> first 5", "logs\n  -> kinds\n  -> first 5")]
    [InlineData("spans -> first duration by service", "spans\n  -> first duration by service")]
    [InlineData("spans -> differ where (status = \"error\")", "spans\n  -> differ where status = \"error\"")]
    [InlineData("a: logs -> count; b: spans -> count; (a + 2) / (b - 1 * a) -> as percent", "a: logs\n  -> count\nb: spans\n  -> count\n(a + 2) / (b - 1 * a)\n  -> as percent")]
    [InlineData("errors: spans -> where status = \"error\" -> count\nall: spans -> count\nerrors / all -> as percent", "errors: spans\n  -> where status = \"error\"\n  -> count\nall: spans\n  -> count\nerrors / all\n  -> as percent")]
    public void The_formatter_writes_one_step_a_line(string text, string formatted) =>
        Formatter.Write(Parser.Read(text)).ShouldBe(formatted);

    [Theory]
    [InlineData("a -> rat", 1, 6, "rat", "rate")]
    [InlineData("a\n  -> where namespace == \"x\"", 2, 23, "=", null)]
    [InlineData("a -> where namespace = auction", 1, 24, "auction", "\"auction\"")]
    [InlineData("a -> where namespace lik \"x%\"", 1, 22, "lik", "like")]
    [InlineData("a -> rate every 5", 1, 17, "5", "every 1m")]
    [InlineData("a -> highest", 1, 13, "", "highest 5")]
    [InlineData("a | rate", 1, 3, "|", "Steps are joined with ->.")]
    [InlineData("a -> where b matches \"(\"", 1, 22, "\"(\"", null)]
    [InlineData("a -> where b = \"open", 1, 16, "\"open", "Add \" at the end.")]
    [InlineData("flows -> where source.address inside 10.0.0.0/99", 1, 38, "10.0.0.0/99", "10.0.0.0/8")]
    [InlineData("logs -> where text says \"--\"", 1, 25, "\"--\"", null)]
    [InlineData("a -> over max", 1, 11, "max", "over 10m max")]
    [InlineData("a -> over 10m maxx", 1, 15, "maxx", "max")]
    [InlineData("a -> gaps hol", 1, 11, "hol", "hold")]
    [InlineData("a -> shift yesterday", 1, 12, "yesterday", "shift 7d")]
    [InlineData("logs -> parse \"sold {lot\"", 1, 15, "\"sold {lot\"", "\"sold lot {lot} for {price:number}\"")]
    [InlineData("logs -> parse \"sold {a}{b}\"", 1, 15, "\"sold {a}{b}\"", "\"sold lot {lot} for {price:number}\"")]
    [InlineData("logs -> set took 5", 1, 18, "5", "set took = duration * 1000")]
    [InlineData("logs -> differ level = \"error\"", 1, 16, "level", "differ where status = \"error\"")]
    [InlineData("errors: spans -> count\nerors / errors", 2, 1, "erors", "errors")]
    [InlineData("spans -> count\nlogs -> count", 1, 1, "", "name: …")]
    [InlineData("x: a\nx: b\nx", 2, 1, "x", null)]
    public void An_error_gives_line_column_word_and_suggestion(string text, int line, int column, string word, string? suggestion)
    {
        var error = Wrong(text);
        (error.Line, error.Column, error.Word, error.Suggestion).ShouldBe((line, column, word, suggestion));
    }

    private static Gen<string> OneOf(params string[] texts) => Gen.Int[0, texts.Length - 1].Select(i => texts[i]);

    private static readonly Gen<string> Name = OneOf("namespace", "pod", "k8s.node.name", "odd name", "count", "not", "where", "a_b");

    private static readonly Gen<Value> Value = Gen.OneOf<Value>(
        Gen.String[Gen.Char["ab \"\\%_'"], 0, 6].Select(text => (Value)new TextValue(text)),
        Gen.Select(Gen.Int[-1000, 1000], OneOf("", "ms", "MiB", "%")).Select((number, suffix) => (Value)new NumberValue(number / 4.0, suffix)));

    private static readonly Gen<Predicate> Comparison = Gen.Select(Name, Gen.Enum<Comparison>(), Value.Array[1, 3]).Select((field, comparison, values) => (Predicate)(comparison switch
    {
        Skevin.Core.Query.Language.Comparison.Exists => new FieldPredicate(field, comparison, [], default),
        Skevin.Core.Query.Language.Comparison.Like or Skevin.Core.Query.Language.Comparison.Matches => new FieldPredicate(field, comparison, [new TextValue("a.b")], default),
        Skevin.Core.Query.Language.Comparison.Says => new FieldPredicate(field, comparison, [new TextValue("lot refused")], default),
        Skevin.Core.Query.Language.Comparison.Inside => new FieldPredicate(field, comparison, [new TextValue("2001:db8::/32")], default),
        Skevin.Core.Query.Language.Comparison.In => new FieldPredicate(field, comparison, values, default),
        _ => new FieldPredicate(field, comparison, [values[0]], default),
    }));

    private static Gen<Predicate> Predicates(int depth) => depth == 0 ? Comparison : Gen.OneOf(
        Comparison,
        Predicates(depth - 1).Select(inner => (Predicate)new NotPredicate(inner)),
        Gen.Select(Predicates(depth - 1), Predicates(depth - 1)).Select((left, right) => (Predicate)new AndPredicate(left, right)),
        Gen.Select(Predicates(depth - 1), Predicates(depth - 1)).Select((left, right) => (Predicate)new OrPredicate(left, right)));

    private static readonly Gen<TimeSpan?> Every = Gen.OneOf(Gen.Const((TimeSpan?)null), Gen.Int[1, 4000].Select(seconds => (TimeSpan?)TimeSpan.FromSeconds(seconds)));

    private static readonly Gen<Function> Functions = Gen.OneOf(
        Gen.Enum<FunctionKind>().Where(kind => kind != FunctionKind.Quantile).Select(kind => new Function(kind)), Gen.Int[0, 1000].Select(tenths => new Function(FunctionKind.Quantile, tenths / 10.0)));

    private static Gen<Formula> SetFormulas(int depth) => depth == 0
        ? Gen.OneOf<Formula>(Name.Select(name => (Formula)new NamedFormula(name, default)), Gen.Int[-20, 20].Select(number => (Formula)new NumberFormula(number / 2.0, "ms")), Gen.String[Gen.Char["ab \"\\"], 0, 5].Select(text => (Formula)new TextFormula(text, default)))
        : Gen.OneOf(SetFormulas(depth - 1), Gen.Select(SetFormulas(depth - 1), Gen.Char["+-*/<>"], SetFormulas(depth - 1)).Select((left, sign, right) => (Formula)new JoinedFormula(left, sign, right, default)));

    private static readonly Gen<Step> Steps = Gen.OneOf<Step>(
        Predicates(3).Select(predicate => (Step)new WhereStep(predicate, default)),
        Gen.Select(Gen.Bool, Every).Select((rate, every) => (Step)new RiseStep(rate, every, default)),
        Gen.Select(Functions, Name, Gen.Bool, Name.Array[0, 3], Every).Select((function, field, except, names, every) =>
            (Step)new AggregateStep(function, field, names.Length == 0 ? null : new Grouping(except, names), every, default)),
        Gen.Select(Gen.Bool, Gen.Int[1, 50], Functions).Select((highest, count, by) => (Step)new RankStep(highest, count, by, default)),
        Name.Array[1, 3].Select(names => (Step)new ShowStep(names, default)),
        Gen.Select(Name, Gen.Bool).Select((name, down) => (Step)new OrderStep(name, down, default)),
        Gen.Int[1, 500].Select(count => (Step)new FirstStep(count, default)),
        OneOf("percent", "ms", "GiB", "{bid}").Select(unit => (Step)new UnitStep(unit, default)),
        Gen.Bool.Select(addresses => (Step)new GraphStep(addresses, default)),
        Every.Select(every => (Step)new ChangeStep(every, default)),
        Gen.Select(Gen.Int[1, 100_000], Functions).Select((seconds, function) => (Step)new OverStep(TimeSpan.FromSeconds(seconds), function, default)),
        Gen.Int[1, 1_000_000].Select(seconds => (Step)new ShiftStep(TimeSpan.FromSeconds(seconds), default)),
        Gen.Bool.Select(hold => (Step)new GapsStep(hold, default)),
        Gen.Select(OneOf("json", "sold {lot} for \"{price:number}\" {{x}}", "{}\\{a:duration}"), OneOf("", "body", "from")).Select((pattern, from) => (Step)new ParseStep(pattern == "json" ? null : pattern, from == "" ? null : from, default)),
        Gen.Select(Name, SetFormulas(3)).Select((name, formula) => (Step)new SetStep(name, formula, default)),
        Gen.Const((Step)new KindsStep(default)),
        Predicates(2).Select(predicate => (Step)new DifferStep(predicate, default)),
        Gen.Const((Step)new TracesStep(default)));

    private static readonly Gen<Source> Sources = Gen.OneOf<Source>(
        OneOf("container.cpu.time", "odd metric", "logs", "alarms").Select(name => (Source)new MetricSource(name, default)),
        Gen.Enum<Skevin.Core.Query.Run.RowKind>().Select(kind => (Source)new RowSource(kind, default)));

    private static Gen<Formula> Formulas(int depth) => depth == 0
        ? Gen.OneOf<Formula>(OneOf("a", "odd part").Select(name => (Formula)new NamedFormula(name, default)), Gen.Int[-20, 20].Select(number => (Formula)new NumberFormula(number / 2.0, "ms")))
        : Gen.OneOf(Formulas(depth - 1), Gen.Select(Formulas(depth - 1), Gen.Char["+-*/<>"], Formulas(depth - 1)).Select((left, sign, right) => (Formula)new JoinedFormula(left, sign, right, default)));

    [Fact]
    public void Parsing_what_the_formatter_wrote_gives_the_same_tree() =>
        Gen.Select(Sources, Steps.Array[0, 5]).Sample((source, steps) => SameTree(new Enquiry(source, steps)), iter: 20_000);

    [Fact]
    public void Parsing_a_written_formula_gives_the_same_tree() =>
        Gen.Select(Sources, Steps.Array[0, 2], Sources, Formulas(4)).Sample((one, steps, other, formula) => SameTree(new Enquiry(
        [
            new Part("a", new Body(one, steps), default), new Part("odd part", new Body(other, []), default), new Part(null, new Body(new FormulaSource(formula, default), steps), default),
        ])), iter: 20_000);

    [Fact]
    public void Names_that_are_replaced_and_replaced_back_give_the_same_tree() =>
        Gen.Select(Sources, Steps.Array[0, 5]).Sample((source, steps) =>
        {
            var tree = new Enquiry(source, steps);
            Shape(Naming.Renamed(tree, name => name, (_, field) => field)).ShouldBe(Shape(tree));
            var there = Naming.Renamed(tree, name => "other." + name, (_, field) => "other." + field);
            Shape(Naming.Renamed(there, name => name["other.".Length..], (_, field) => field.StartsWith("other.", StringComparison.Ordinal) ? field["other.".Length..] : field)).ShouldBe(Shape(tree));
        }, iter: 5_000);

    private static void SameTree(Enquiry tree)
    {
        var text = Formatter.Write(tree);
        Shape(Parser.Read(text)).ShouldBe(Shape(tree), text);
    }

    [Fact]
    public void No_text_makes_it_do_worse_than_explain() =>
        Gen.String[Gen.Char["ab ->\"`().,=<!1m%wherate\n#;|é"], 0, 40].Sample(text =>
        {
            try
            {
                Parser.Read(text);
            }
            catch (EnquiryException explained)
            {
                explained.Error.Line.ShouldBeGreaterThan(0);
                explained.Error.Column.ShouldBeGreaterThan(0);
            }
        }, iter: 50_000);

    [Fact]
    public void Deep_nesting_is_refused_not_overflowed() =>
        Wrong("a -> where " + new string('(', 5000)).Message.ShouldContain("nested");

    // Records compare lists by reference, so trees are compared by a shape that spells everything out.
    private static string Shape(object? node) => node switch
    {
        null => "-",
        string or double or int or bool or Enum or TimeSpan => $"{node}",
        Position => "",
        System.Collections.IEnumerable list => "[" + string.Join(",", list.Cast<object?>().Select(Shape)) + "]",
        _ => node.GetType().Name + "{" + string.Join(",", node.GetType().GetProperties().Where(property => property.Name != "EqualityContract")
            .OrderBy(property => property.Name, StringComparer.Ordinal).Select(property => property.Name + ":" + Shape(property.GetValue(node)))) + "}",
    };

    [Fact]
    public void Nearness_is_levenshtein_without_letter_case()
    {
        // "kitten" → "sitting" is the textbook example: 3.
        EditDistance.Between("kitten", "sitting").ShouldBe(3);
        EditDistance.Between("Auction", "auction").ShouldBe(0);
        EditDistance.Nearest("ledgr", ["ledger", "settle", "clock"], 2).ShouldBe(["ledger"]);
    }

    [Theory]
    [InlineData("400ms", "s", 0.4)]
    [InlineData("256MiB", "By", 268435456)]
    [InlineData("80%", "1", 0.8)]
    [InlineData("-18Cel", "Cel", -18)]
    [InlineData("2.5", "{core}", 2.5)]
    public void A_bound_is_read_in_the_enquirys_unit(string text, string unit, double number)
    {
        Units.TryBound(text, unit, out var read, out var error).ShouldBeTrue(error);
        read.ShouldBe(number, 1e-9);
    }

    [Fact]
    public void A_bound_of_another_dimension_shows_the_likely_spelling()
    {
        Units.TryBound("400MiB", "s", out _, out var error).ShouldBeFalse();
        error.ShouldNotBeNull().ShouldContain("400ns");
    }
}
