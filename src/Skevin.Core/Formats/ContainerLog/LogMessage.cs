using System.Text.Json;
using Skevin.Core.Logs;
using Skevin.Core.Traces;

namespace Skevin.Core.Formats.ContainerLog;

/// <summary>What a program said in a line: JSON with its fields, or plain text. The names looked for are common practice, no source.</summary>
/// <param name="Fields">Fields of a JSON line beside those taken out; nested ones with dotted names.</param>
public sealed record LogMessage(LogLevel Level, string Text, IReadOnlyList<KeyValuePair<string, string>> Fields, TraceId Trace, ulong Span)
{
    /// <summary>When it says it was written, where it says so with its zone.</summary>
    public DateTimeOffset? At { get; init; }

    private const int MostFields = 64;
    private static readonly string[] TextNames = ["message", "msg", "text", "event"];
    private static readonly string[] LevelNames = ["level", "severity", "lvl", "log.level", "severity_text"];
    private static readonly string[] TraceNames = ["trace_id", "traceId", "trace.id", "trace"];
    private static readonly string[] SpanNames = ["span_id", "spanId", "span.id", "span"];
    private static readonly string[] TimeNames = ["time", "timestamp", "ts", "@timestamp"];

    /// <summary>Reads a message.</summary>
    public static LogMessage Read(string message)
    {
        var trimmed = message.AsSpan().Trim();
        if (trimmed.Length > 1 && trimmed[0] == '{' && trimmed[^1] == '}')
            try
            {
                using var document = JsonDocument.Parse(message, new JsonDocumentOptions { MaxDepth = 16 });
                return OfJson(document.RootElement, message);
            }
            catch (JsonException)
            {
                // Braces alone do not make JSON.
            }
        return OfText(message);
    }

    private static LogMessage OfJson(JsonElement root, string whole)
    {
        var fields = new List<KeyValuePair<string, string>>();
        Flatten(root, "", fields);
        string? Take(string[] names)
        {
            foreach (var name in names)
                if (fields.FindIndex(pair => pair.Key == name) is var at && at >= 0)
                {
                    var value = fields[at].Value;
                    fields.RemoveAt(at);
                    return value;
                }
            return null;
        }
        var (text, level) = (Take(TextNames), Take(LevelNames));
        var (trace, span) = (TraceId.Parse(Take(TraceNames)), TraceId.ParseSpan(Take(SpanNames)));
        if (trace.IsEmpty && TraceParent.TryRead(Take(["traceparent"]), out var carried, out var caller, out _))
            (trace, span) = (carried, caller);
        // For containers the runtime has stamped the line.
        var at = LineTime.Read(Take(TimeNames));
        if (text is null)
            return new LogMessage(LogLevels.OfWord(level), whole, [], trace, span) { At = at };
        return new LogMessage(int.TryParse(level, out var number) ? LogLevels.OfNumber(number) : LogLevels.OfWord(level), text, fields, trace, span) { At = at };
    }

    private static void Flatten(JsonElement element, string prefix, List<KeyValuePair<string, string>> into)
    {
        foreach (var property in element.EnumerateObject())
        {
            if (into.Count >= MostFields)
                return;
            var name = prefix + property.Name;
            switch (property.Value.ValueKind)
            {
                case JsonValueKind.Object:
                    Flatten(property.Value, name + ".", into);
                    break;
                case JsonValueKind.String:
                    into.Add(new(name, property.Value.GetString()!));
                    break;
                case JsonValueKind.Null or JsonValueKind.Undefined:
                    break;
                default:
                    into.Add(new(name, property.Value.GetRawText()));
                    break;
            }
        }
    }

    // A level stands among the first words, bare, in brackets, or as level=…; a trace as trace=… or trace_id=….
    private static LogMessage OfText(string message)
    {
        var level = LogLevel.None;
        var at = 0;
        for (var word = 0; word < 6 && at < message.Length && level == LogLevel.None; word++)
        {
            var end = message.AsSpan(at).IndexOf(' ');
            var part = message.AsSpan(at, end < 0 ? message.Length - at : end);
            var named = part.StartsWith("level=", StringComparison.OrdinalIgnoreCase);
            if (named)
                part = part[6..];
            // In plain text a lower-case "error" is more often part of a sentence than its level, so bare words count in capitals or at the front.
            var bare = part.Trim("[]():|\"");
            if (named || word == 0 || part.Length != bare.Length || !bare.ContainsAnyExceptInRange('A', 'Z'))
                level = LogLevels.OfWord(bare);
            at += part.Length == 0 ? 1 : (end < 0 ? message.Length : end) + 1;
        }
        var (trace, span) = (TraceId.Parse(After(message, Hex, "trace_id=", "trace=")), TraceId.ParseSpan(After(message, Hex, "span_id=", "span=")));
        if (trace.IsEmpty && TraceParent.TryRead(After(message, Hex + "-", "traceparent="), out var carried, out var caller, out _))
            (trace, span) = (carried, caller);
        return new LogMessage(level, message, [], trace, span) { At = LineTime.Read(message) };
    }

    private const string Hex = "0123456789abcdef";

    private static ReadOnlySpan<char> After(string message, string letters, params ReadOnlySpan<string> marks)
    {
        foreach (var mark in marks)
            if (message.IndexOf(mark, StringComparison.Ordinal) is var found && found >= 0)
            {
                var rest = message.AsSpan(found + mark.Length);
                var end = rest.IndexOfAnyExcept(letters);
                return end < 0 ? rest : rest[..end];
            }
        return [];
    }
}
