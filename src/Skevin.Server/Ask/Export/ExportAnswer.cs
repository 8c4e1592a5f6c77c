using Skevin.Core.Access;
using Skevin.Server.Setup;

namespace Skevin.Server.Ask.Export;

/// <summary>Answers an enquiry whole, as a file.</summary>
public sealed class ExportAnswer(AskEnquiry ask)
{
    private static readonly Dictionary<string, Func<ExportTable, Stream, CancellationToken, Task>> Formats = new()
    {
        ["text/csv"] = ExportFiles.Csv,
        ["application/x-ndjson"] = ExportFiles.Lines,
        ["application/vnd.apache.parquet"] = ParquetFile.Write,
    };

    /// <summary>The media type of these that a request accepts; null where it wants none of them.</summary>
    public static string? Wanted(HttpRequest request) => Formats.Keys.FirstOrDefault(request.Headers.Accept.ToString().Contains);

    /// <summary>Writes the answer. Rows whose steps look at one at a time are given on as they are read, however many there are.</summary>
    /// <returns>The file, or what is wrong with the enquiry. A trouble after the first row breaks the connection off, so that half a file is not taken for a whole one.</returns>
    public async Task<Outcome<IResult>> Run(AskRequest request, string mediaType, AccessScope access, CancellationToken stop)
    {
        var outcome = await ask.Stream(request, access, stop);
        if (outcome.Problem is { } wrong)
            return wrong;
        ExportTable table;
        if (outcome.Value is { } stream)
        {
            table = ExportTable.Of(stream);
        }
        else
        {
            var whole = await ask.Run(request, access, stop);
            if (whole.Problem is { } problem)
                return problem;
            table = ExportTable.Of(whole.Value.Answer);
        }
        if (mediaType != "application/vnd.apache.parquet")
            return new Outcome<IResult>(Results.Stream(to => Formats[mediaType](table, to, stop), mediaType + (mediaType == "text/csv" ? "; charset=utf-8" : "")), null);
        // A Parquet file says at its end where its columns begin, so it is written to disk first; the name is gone as soon as it is open.
        var file = new FileStream(Path.GetTempFileName(), FileMode.Create, FileAccess.ReadWrite, FileShare.None, 1 << 16, FileOptions.DeleteOnClose | FileOptions.Asynchronous);
        try
        {
            await Formats[mediaType](table, file, stop);
            file.Position = 0;
            return new Outcome<IResult>(Results.Stream(file, mediaType), null);
        }
        catch
        {
            await file.DisposeAsync();
            throw;
        }
    }
}
