using System.Globalization;
using OpenTelemetry.Proto.Common.V1;

namespace Skevin.Core.Formats.Otlp;

/// <summary>Attributes of OTLP as text.</summary>
public static class OtlpAttributes
{
    /// <summary>Attributes as text; nested values as JSON-like text.</summary>
    public static Dictionary<string, string> Read(IEnumerable<KeyValue>? attributes)
    {
        var map = new Dictionary<string, string>(StringComparer.Ordinal);
        foreach (var pair in attributes ?? [])
            if (pair.Key.Length > 0)
                map[pair.Key] = Text(pair.Value);
        return map;
    }

    /// <summary>A value as text.</summary>
    public static string Text(AnyValue? value) => value?.ValueCase switch
    {
        AnyValue.ValueOneofCase.StringValue => value.StringValue,
        AnyValue.ValueOneofCase.BoolValue => value.BoolValue ? "true" : "false",
        AnyValue.ValueOneofCase.IntValue => value.IntValue.ToString(CultureInfo.InvariantCulture),
        AnyValue.ValueOneofCase.DoubleValue => value.DoubleValue.ToString("R", CultureInfo.InvariantCulture),
        AnyValue.ValueOneofCase.BytesValue => value.BytesValue.ToBase64(),
        AnyValue.ValueOneofCase.ArrayValue => "[" + string.Join(",", value.ArrayValue.Values.Select(Text)) + "]",
        AnyValue.ValueOneofCase.KvlistValue =>
            "{" + string.Join(",", value.KvlistValue.Values.Select(pair => pair.Key + ":" + Text(pair.Value))) + "}",
        _ => "",
    };

    /// <summary>Attributes in their wire form.</summary>
    public static void Write(ICollection<KeyValue> into, IEnumerable<KeyValuePair<string, string>> attributes)
    {
        foreach (var (name, value) in attributes)
            into.Add(new KeyValue { Key = name, Value = new AnyValue { StringValue = value } });
    }
}
