using System.Globalization;
using System.Text.Json;
using Google.Protobuf;
using Google.Protobuf.Reflection;

namespace Skevin.Core.Formats.Otlp;

/// <summary>
/// OTLP's JSON form. It is not proto3 JSON: trace and span ids are hex, enums are numbers, unknown fields are ignored.
/// Source: OpenTelemetry protocol specification, "JSON Protobuf Encoding".
/// </summary>
public static class OtlpJson
{
    private const int MaxDepth = 64;

    /// <summary>Reads a request of any signal.</summary>
    /// <exception cref="FormatException">Not JSON, or a field has a value of the wrong type; says which.</exception>
    public static T Read<T>(ReadOnlyMemory<byte> json) where T : IMessage<T>, new()
    {
        try
        {
            using var document = JsonDocument.Parse(json, new JsonDocumentOptions { MaxDepth = MaxDepth });
            var message = new T();
            Fill(message, document.RootElement, "$");
            return message;
        }
        catch (JsonException broken)
        {
            throw new FormatException("The body is not JSON: " + broken.Message, broken);
        }
        catch (InvalidOperationException broken) when (broken.InnerException is System.Text.DecoderFallbackException)
        {
            throw new FormatException("The body is not UTF-8: " + broken.InnerException.Message, broken);
        }
    }

    private static void Fill(IMessage message, JsonElement element, string path)
    {
        if (element.ValueKind != JsonValueKind.Object)
            throw new FormatException($"{path} must be an object.");
        foreach (var property in element.EnumerateObject())
        {
            var field = FieldOf(message.Descriptor, property.Name);
            if (field is null || property.Value.ValueKind == JsonValueKind.Null)
                continue;
            var at = $"{path}.{property.Name}";
            if (field.IsRepeated)
            {
                if (property.Value.ValueKind != JsonValueKind.Array)
                    throw new FormatException($"{at} must be an array.");
                var list = (System.Collections.IList)field.Accessor.GetValue(message);
                var index = 0;
                foreach (var item in property.Value.EnumerateArray())
                    list.Add(Value(field, item, $"{at}[{index++}]"));
            }
            else
            {
                field.Accessor.SetValue(message, Value(field, property.Value, at));
            }
        }
    }

    private static FieldDescriptor? FieldOf(MessageDescriptor descriptor, string name)
    {
        foreach (var field in descriptor.Fields.InDeclarationOrder())
            if (field.JsonName == name || field.Name == name)
                return field;
        return null;
    }

    private static object Value(FieldDescriptor field, JsonElement value, string at)
    {
        try
        {
            switch (field.FieldType)
            {
                case FieldType.Message:
                    var message = (IMessage)Activator.CreateInstance(field.MessageType.ClrType)!;
                    Fill(message, value, at);
                    return message;
                case FieldType.String:
                    return value.GetString() ?? "";
                case FieldType.Bool:
                    return value.GetBoolean();
                case FieldType.Double:
                    return value.ValueKind == JsonValueKind.String
                        ? Special(value.GetString()!)
                        : value.GetDouble();
                case FieldType.Fixed64 or FieldType.UInt64:
                    return value.ValueKind == JsonValueKind.String
                        ? ulong.Parse(value.GetString()!, NumberStyles.None, CultureInfo.InvariantCulture)
                        : value.GetUInt64();
                case FieldType.SFixed64 or FieldType.Int64 or FieldType.SInt64:
                    return value.ValueKind == JsonValueKind.String
                        ? long.Parse(value.GetString()!, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture)
                        : value.GetInt64();
                case FieldType.UInt32 or FieldType.Fixed32:
                    return value.GetUInt32();
                case FieldType.Int32 or FieldType.SInt32 or FieldType.SFixed32:
                    return value.GetInt32();
                case FieldType.Enum:
                    return value.GetInt32();
                case FieldType.Bytes:
                    var text = value.GetString() ?? "";
                    return field.Name is "trace_id" or "span_id" or "parent_span_id"
                        ? ByteString.CopyFrom(Convert.FromHexString(text))
                        : ByteString.FromBase64(text);
                default:
                    throw new FormatException($"{at} has a type this reader does not know.");
            }
        }
        catch (Exception wrong) when (wrong is InvalidOperationException or OverflowException or FormatException
            && !wrong.Message.StartsWith('$'))
        {
            throw new FormatException($"{at} cannot be read as {field.FieldType.ToString().ToLowerInvariant()}.", wrong);
        }
    }

    private static double Special(string text) => text switch
    {
        "NaN" => double.NaN,
        "Infinity" => double.PositiveInfinity,
        "-Infinity" => double.NegativeInfinity,
        _ => double.Parse(text, NumberStyles.Float, CultureInfo.InvariantCulture),
    };
}
