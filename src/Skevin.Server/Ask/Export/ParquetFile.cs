using Parquet;
using Parquet.Schema;

namespace Skevin.Server.Ask.Export;

/// <summary>Writes answers as a columnar file, Apache Parquet, compressed with zstd: times as timestamps in UTC, numbers as doubles, the rest as text; units in the file's metadata.</summary>
internal static class ParquetFile
{
    private const int GroupRows = 100_000;

    /// <summary>Writes a table.</summary>
    /// <param name="table">The rows.</param>
    /// <param name="to">A stream that can seek.</param>
    /// <param name="stop">Cancels.</param>
    public static async Task Write(ExportTable table, Stream to, CancellationToken stop)
    {
        var fields = table.Columns.Select(Field).ToArray();
        await using var writer = await ParquetWriter.CreateAsync(new ParquetSchema(fields), to, new ParquetOptions { CompressionMethod = CompressionMethod.Zstd }, cancellationToken: stop);
        writer.CustomMetadata = table.Columns.Where(column => column.Unit is not ("" or "time")).DistinctBy(column => column.Name).ToDictionary(column => "unit:" + column.Name, column => column.Unit);
        var rows = new List<object?[]>();
        await foreach (var batch in table.Batches.WithCancellation(stop))
        {
            rows.AddRange(batch);
            if (rows.Count >= GroupRows)
                await Group(writer, fields, table.Columns, rows, stop);
        }
        await Group(writer, fields, table.Columns, rows, stop);
    }

    private static DataField Field(ExportColumn column) => column.Unit switch
    {
        "time" => new DateTimeDataField(column.Name, DateTimeFormat.DateAndTime, isAdjustedToUTC: true, unit: DateTimeTimeUnit.Millis, isNullable: true),
        "" => new DataField(column.Name, typeof(string), isNullable: true),
        _ => new DataField(column.Name, typeof(double), isNullable: true),
    };

    private static async Task Group(ParquetWriter writer, DataField[] fields, IReadOnlyList<ExportColumn> columns, List<object?[]> rows, CancellationToken stop)
    {
        using var group = writer.CreateRowGroup();
        for (var i = 0; i < fields.Length; i++)
        {
            if (columns[i].Unit == "time")
                await group.WriteAsync<DateTime>(fields[i], rows.Select(row => row[i] is double time ? DateTimeOffset.FromUnixTimeMilliseconds((long)time).UtcDateTime : (DateTime?)null).ToArray(), cancellationToken: stop);
            else if (columns[i].Unit.Length > 0)
                await group.WriteAsync<double>(fields[i], rows.Select(row => row[i] as double?).ToArray(), cancellationToken: stop);
            else
                await group.WriteAsync(fields[i], rows.Select(row => row[i] is double number ? number.ToString("R", System.Globalization.CultureInfo.InvariantCulture) : row[i] as string).ToArray()!);
        }
        group.CompleteValidate();
        rows.Clear();
    }
}
