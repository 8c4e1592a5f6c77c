using Skevin.Core.Query.Run;
using Skevin.Core.Series;

namespace Skevin.Core.Blocks;

/// <summary>Rows of a block, whatever its layout.</summary>
public interface IBlockRows
{
    /// <summary>How many.</summary>
    int Count { get; }

    /// <summary>Time of a row, epoch milliseconds; rows are in its order.</summary>
    long Milliseconds(int row);

    /// <summary>Where a row comes from; rows of a block share these objects.</summary>
    Labels Resource(int row);

    /// <summary>A row.</summary>
    IRow this[int row] { get; }
}

/// <summary>Rows of a small block, decoded at once.</summary>
internal sealed class DecodedRows<T>(T[] rows, Func<T, Labels> resource) : IBlockRows where T : IRow
{
    public int Count => rows.Length;

    public long Milliseconds(int row) => rows[row].Milliseconds;

    public Labels Resource(int row) => resource(rows[row]);

    public IRow this[int row] => rows[row];
}
