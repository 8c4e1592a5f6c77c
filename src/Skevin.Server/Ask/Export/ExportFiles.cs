using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using System.Text.Json;

namespace Skevin.Server.Ask.Export;

/// <summary>Writes answers as text, row by row as they come.</summary>
internal static class ExportFiles
{
    /// <summary>CSV, RFC 4180.</summary>
    public static async Task Csv(ExportTable table, Stream to, CancellationToken stop)
    {
        await using var writer = new StreamWriter(to, new UTF8Encoding(false), leaveOpen: true);
        var line = new StringBuilder();
        line.AppendJoin(',', table.Columns.Select(column => Quoted(column.Name))).Append("\r\n");
        await foreach (var batch in table.Batches.WithCancellation(stop))
        {
            foreach (var row in batch)
                line.AppendJoin(',', row.Select((value, i) => Quoted(Plain(value, table.Columns[i].Unit)))).Append("\r\n");
            await writer.WriteAsync(line, stop);
            await writer.FlushAsync(stop);
            line.Clear();
        }
        await writer.WriteAsync(line, stop);
    }

    /// <summary>JSON Lines: an object a row, without what it does not have; labels of a series in an object of their own.</summary>
    public static async Task Lines(ExportTable table, Stream to, CancellationToken stop)
    {
        var buffer = new System.Buffers.ArrayBufferWriter<byte>();
        await using var json = new Utf8JsonWriter(buffer, new JsonWriterOptions { Encoder = JavaScriptEncoder.UnsafeRelaxedJsonEscaping });
        await foreach (var batch in table.Batches.WithCancellation(stop))
        {
            foreach (var row in batch)
            {
                Line(json, table, row);
                await json.FlushAsync(stop);
                json.Reset();
                buffer.GetSpan(1)[0] = (byte)'\n';
                buffer.Advance(1);
            }
            await to.WriteAsync(buffer.WrittenMemory, stop);
            await to.FlushAsync(stop);
            buffer.ResetWrittenCount();
        }
    }

    private static void Line(Utf8JsonWriter json, ExportTable table, object?[] row)
    {
        var columns = table.Columns;
        json.WriteStartObject();
        for (var i = 0; i < row.Length; i++)
            if (!columns[i].Label && (row[i] is not null || table.Series))
                Value(json, columns[i], row[i]);
        if (table.Series)
        {
            json.WriteStartObject("labels");
            for (var i = 0; i < row.Length; i++)
                if (columns[i].Label && row[i] is string text)
                    json.WriteString(columns[i].Name, text);
            json.WriteEndObject();
        }
        json.WriteEndObject();
    }

    private static void Value(Utf8JsonWriter json, ExportColumn column, object? value)
    {
        if (value is null)
            json.WriteNull(column.Name);
        else if (value is double number && column.Unit != "time")
            json.WriteNumber(column.Name, number);
        else
            json.WriteString(column.Name, Plain(value, column.Unit));
    }

    private static string Plain(object? value, string unit) => value switch
    {
        null => "",
        double moment when unit == "time" => DateTimeOffset.FromUnixTimeMilliseconds((long)moment).UtcDateTime.ToString("yyyy-MM-ddTHH:mm:ss.FFFZ", CultureInfo.InvariantCulture),
        double number => number.ToString("R", CultureInfo.InvariantCulture),
        _ => value.ToString() ?? "",
    };

    private static string Quoted(string text) => text.AsSpan().IndexOfAny(",\"\r\n") < 0 ? text : "\"" + text.Replace("\"", "\"\"") + "\"";
}
