using CsCheck;
using Skevin.Core.Blocks;
using Skevin.Core.Logs;
using Skevin.Core.Series;
using Skevin.Core.Traces;

namespace Skevin.Core.Tests.Blocks;

public sealed class BlockTests
{
    private static readonly Gen<Labels> Sets = Gen.Select(Gen.String[Gen.Char["abé."], 1, 4], Gen.String[1, 6]).Array[0, 4]
        .Select(pairs => Labels.From(pairs.Select(pair => new KeyValuePair<string, string>(pair.Item1, pair.Item2))));

    private static readonly Gen<LogLine> Lines = Gen.Select(Gen.Long, Gen.OneOf(Gen.Const(LogLevel.None), Gen.Const(LogLevel.Info), Gen.Const(LogLevel.Error)), Gen.String[0, 60], Sets, Sets, Gen.ULong, Gen.ULong)
        .Select((time, level, text, resource, attributes, trace, span) => new LogLine(time, level, text, resource, attributes, new TraceId(trace, span & 1), span & 7));

    private static readonly Gen<Span> Spans = Gen.Select(Gen.ULong, Gen.Long[0, long.MaxValue / 2], Gen.Long[0, 1L << 50], Gen.String[0, 20], Sets, Sets, Gen.Select(Gen.Long[0, 1L << 40], Gen.String[0, 9], Sets).Array[0, 3])
        .Select((id, start, duration, text, resource, attributes, notes) => new Span(
            new TraceId(id, ~id), id | 1, id / 2, text, (SpanKind)(id % 6), start, duration, (SpanStatus)(id % 3), text, 1 + id % 9 / 2.0, resource, attributes,
            [.. notes.Select(note => new SpanEvent(start + note.Item1, note.Item2, note.Item3))]));

    // A lone surrogate is no text and is not carried by UTF-8; the framework writes U+FFFD in its place.
    private static string Carried(string text) => System.Text.Encoding.UTF8.GetString(System.Text.Encoding.UTF8.GetBytes(text));

    [Fact]
    public void Log_lines_come_back_in_order_of_time() => Lines.Array[0, 30].Sample(lines =>
    {
        var back = LogBlock.Decode(LogBlock.Encode(lines));
        back.Select(line => (line.Time, line.Level, line.Text, line.Trace, line.Span)).ShouldBe(lines.OrderBy(line => line.Time).Select(line => (line.Time, line.Level, Carried(line.Text), line.Trace, line.Span)));
        back.Select(line => line.Resource.Count).ShouldBe(lines.OrderBy(line => line.Time).Select(line => line.Resource.Count));
    }, iter: 3000);

    [Fact]
    public void Spans_come_back_with_their_events_and_weights() => Spans.Array[0, 20].Sample(spans =>
    {
        var back = SpanBlock.Decode(SpanBlock.Encode(spans));
        back.Select(span => (span.Trace, span.Id, span.Parent, span.Kind, span.Status, span.Start, span.Duration, span.Weight, span.Events.Count))
            .ShouldBe(spans.OrderBy(span => span.Start).Select(span => (span.Trace, span.Id, span.Parent, span.Kind, span.Status, span.Start, span.Duration, span.Weight, span.Events.Count)));
        back.SelectMany(span => span.Events.Select(note => note.Time)).ShouldBe(spans.OrderBy(span => span.Start).SelectMany(span => span.Events.Select(note => note.Time)));
    }, iter: 3000);

    [Fact]
    public void Columns_hold_the_same_lines_as_rows_whole_and_field_by_field() => Lines.Array[0, 60].Sample(lines =>
    {
        var (plain, columns) = (LogBlock.Open(LogBlock.Encode(lines)), LogBlock.Open(LogColumns.Encode(lines)));
        SameRows(plain, columns);
        var back = LogBlock.Decode(LogColumns.Encode(lines));
        back.Zip(LogBlock.Decode(LogBlock.Encode(lines))).ShouldAllBe(pair => pair.First == pair.Second);
    }, iter: 600);

    [Fact]
    public void Columns_hold_the_same_spans_as_rows_whole_and_field_by_field() => Spans.Array[0, 40].Sample(spans =>
    {
        // Some are called by others in the block.
        for (var i = 1; i < spans.Length; i += 2)
            spans[i] = spans[i] with { Parent = spans[i - 1].Id, Trace = spans[0].Trace };
        var (plain, columns) = (SpanBlock.Open(SpanBlock.Encode(spans)), SpanBlock.Open(SpanColumns.Encode(spans)));
        SameRows(plain, columns);
        SpanBlock.Decode(SpanColumns.Encode(spans)).Select(Told).ShouldBe(SpanBlock.Decode(SpanBlock.Encode(spans)).Select(Told));
    }, iter: 400);

    private static string Told(Span span) => $"{span with { Events = [] }} {string.Join(";", span.Events)}".Replace("System.Collections.Generic.List`1[Skevin.Core.Traces.SpanEvent]", "");

    private static void SameRows(IBlockRows plain, IBlockRows columns)
    {
        columns.Count.ShouldBe(plain.Count);
        for (var i = 0; i < plain.Count; i++)
        {
            columns.Milliseconds(i).ShouldBe(plain.Milliseconds(i));
            columns.Resource(i).ShouldBe(plain.Resource(i));
            columns[i].Weight.ShouldBe(plain[i].Weight);
            columns[i].Fields.ShouldBe(plain[i].Fields);
            foreach (var field in plain[i].Fields.Concat(["time", "level", "text", "trace", "span", "name", "kind", "duration", "status", "parent", "message", "workload", "service", "reason", "exception.type", "absent"]))
                columns[i][field].ShouldBe(plain[i][field], field);
        }
    }

    [Fact]
    public void Damaged_columns_are_refused_not_worse() => Gen.Select(Lines.Array[1, 30], Spans.Array[1, 20], Gen.Int[0, 4000], Gen.Byte, Gen.Int[0, 60]).Sample((lines, spans, at, with, cut) =>
    {
        foreach (var (block, decode) in new (byte[], Action<byte[]>)[] { (LogColumns.Encode(lines), bytes => LogBlock.Decode(bytes)), (SpanColumns.Encode(spans), bytes => SpanBlock.Decode(bytes)) })
        {
            block[at % block.Length] ^= with;
            foreach (var bytes in new[] { block, block[..Math.Max(0, block.Length - cut)] })
                Refused(() => decode(bytes));
        }
    }, iter: 800);

    [Fact]
    public void The_inside_of_columns_may_be_anything_and_is_refused_not_worse()
    {
        string[] names = ["start", "time", "duration", "kind", "resource", "name", "message", "weight", "trace", "traces", "id", "parent", "keys", "@a", "events", "level", "text", "links"];
        Gen.Select(Gen.Int[0, 5], Gen.Byte.Array[0, 40].Array[names.Length]).Sample((rows, columns) =>
        {
            var writer = new ColumnWriter(rows);
            foreach (var (i, bytes) in columns.Index())
                writer.Add(names[i], bytes);
            var block = writer.Finish(2);
            Refused(() => LogBlock.Decode(block));
            Refused(() => SpanBlock.Decode(block));
        }, iter: 2000);
    }

    [Fact]
    public void A_column_of_fewer_texts_than_rows_is_refused()
    {
        var writer = new ColumnWriter(2);
        writer.AddDistances("time", [1, 2]);
        writer.AddSets("resource", [Labels.None, Labels.None]);
        writer.AddTexts("text", ["one"]);
        Should.Throw<FormatException>(() => LogBlock.Decode(writer.Finish(LogColumns.Version)));
    }

    private static void Refused(Action decode)
    {
        try
        {
            decode();
        }
        catch (FormatException)
        {
            // Said so.
        }
    }

    [Fact]
    public void A_damaged_block_is_refused_not_worse() => Gen.Select(Lines.Array[1, 8], Spans.Array[1, 5], Gen.Int[0, 2000], Gen.Byte, Gen.Int[0, 60]).Sample((lines, spans, at, with, cut) =>
    {
        foreach (var (block, decode) in new (byte[], Action<byte[]>)[] { (LogBlock.Encode(lines), bytes => LogBlock.Decode(bytes)), (SpanBlock.Encode(spans), bytes => SpanBlock.Decode(bytes)) })
        {
            block[at % block.Length] ^= with;
            foreach (var bytes in new[] { block, block[..Math.Max(0, block.Length - cut)] })
                try
                {
                    decode(bytes);
                }
                catch (FormatException)
                {
                    // Said so.
                }
        }
    }, iter: 4000);

    [Fact]
    public void The_inside_of_a_block_may_be_anything_and_is_refused_not_worse() => Gen.Byte.Array[0, 60].Sample(inside =>
    {
        using var compressor = new ZstdSharp.Compressor(1);
        byte[] block = [1, .. compressor.Wrap(inside)];
        foreach (var decode in new Action[] { () => LogBlock.Decode(block), () => SpanBlock.Decode(block), () => Core.Traffic.FlowBlock.Decode(block) })
            try
            {
                decode();
            }
            catch (FormatException)
            {
                // Said so.
            }
    }, iter: 12_000);

    [Fact]
    public void A_word_that_is_there_is_never_passed_over_and_of_others_few_are_not()
    {
        var words = Enumerable.Range(0, 2000).Select(i => "word" + i).ToHashSet();
        var filter = WordFilter.Of(words);
        words.ShouldAllBe(word => WordFilter.MayHold(filter, word));
        // Bloom 1970: sixteen bits a word and eleven probes let about 0.046 % through; twice that is allowed for here.
        Enumerable.Range(0, 100_000).Count(i => WordFilter.MayHold(filter, "other" + i)).ShouldBeLessThan(92);
    }

    [Fact]
    public void Words_are_runs_of_letters_and_digits_in_lower_case() =>
        WordFilter.Words("Bid on lot A-4411: no ANSWER, über/7").ShouldBe(["bid", "on", "lot", "a", "4411", "no", "answer", "über", "7"]);

    [Fact]
    public void What_a_column_has_is_found_in_its_bytes_as_in_its_texts() =>
        Gen.Select(Gen.OneOf(Gen.String[Gen.Char["abkKBA é€x "], 0, 12], Gen.String[0, 5]).Array[1, 60], Gen.String[Gen.Char["abkx"], 1, 3], Gen.Bool).Sample((texts, word, repeat) =>
        {
            string[] all = repeat ? [.. texts, .. texts, .. texts] : texts;
            var writer = new ColumnWriter(all.Length);
            writer.AddTexts("text", all);
            var having = new ColumnReader(writer.Finish(9), 9).Texts("text")?.Having(word);
            for (var i = 0; i < all.Length; i++)
                (having?[i] ?? false).ShouldBe(all[i].Contains(word, StringComparison.OrdinalIgnoreCase), $"'{word}' in '{all[i]}'");
        }, iter: 5000);

    private static readonly Gen<Labels> Origin = Gen.Select(Gen.Int[0, 2], Gen.Int[0, 2]).Select((ns, pod) => Labels.From([new("k8s.cluster.name", "c"), new("k8s.namespace.name", "ns" + ns), new("k8s.pod.name", "pod" + pod)]));

    [Fact]
    public void Lines_counted_by_minute_are_the_lines_there_are() =>
        Gen.Select(Gen.Long[0, 600_000_000_000], Gen.Int[0, 2], Origin).Array[1, 80].Sample(drawn =>
        {
            const long from = 100_500, to = 500_250;
            var lines = drawn.Select(one => new LogLine(one.Item1, new[] { LogLevel.None, LogLevel.Info, LogLevel.Error }[one.Item2], "t", one.Item3, Labels.None, default, 0)).ToArray();
            var columns = new LogColumns(LogColumns.Encode(lines));
            columns.Counts(["level", "namespace", "k8s.pod.name", "workload"]).ShouldBeTrue();
            columns.Counts(["text"]).ShouldBeFalse();
            bool Sees(Labels labels) => labels["k8s.namespace.name"] != "ns1";
            var counted = columns.CountByMinute(from, to, Sees).GroupBy(row => (row.Milliseconds, row["level"].AsText, row["namespace"].AsText)).ToDictionary(group => group.Key, group => group.Sum(row => row.Rows));
            counted.ShouldBe(lines.Where(line => line.Milliseconds > from && line.Milliseconds <= to && Sees(line.Resource))
                .GroupBy(line => ((line.Milliseconds + 59_999) / 60_000 * 60_000, line["level"].AsText, line["namespace"].AsText)).ToDictionary(group => group.Key, group => (long)group.Count()), ignoreOrder: true);
        }, iter: 2000);

    [Fact]
    public void Lines_whose_own_fields_have_that_name_are_not_counted_by_origin() =>
        new LogColumns(LogColumns.Encode([new LogLine(1, LogLevel.Info, "t", Labels.None, Labels.From([new("k8s.pod.name", "own"), new("lot", "A-1")]), default, 0)])).ShouldSatisfyAllConditions(
            columns => columns.Counts(["level"]).ShouldBeTrue(),
            columns => columns.Counts(["pod"]).ShouldBeFalse(),
            columns => columns.Counts(["lot"]).ShouldBeFalse());
}
