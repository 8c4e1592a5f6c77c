using Skevin.Core.Blocks;

namespace Skevin.Core.Series;

/// <summary>
/// Values of one series by whichever is shortest of scaled integers (as differences, differences of differences, or differences in as few bits as the
/// widest needs) and XOR with the value before, in planes of bytes. Source: XOR of neighbours as in Pelkonen et al., VLDB 2015, section 4.1.2, in bytes
/// instead of bits. Every bit pattern comes back as it was.
/// </summary>
internal static class ValueCodec
{
    private const int MostDecimals = 9;

    private static readonly double[] Powers = [1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9];

    // How the values of a series are written.
    private const byte Constant = 0, Differences = 1, SecondDifferences = 2, Xor = 3, Packed = 4;

    /// <summary>Writes values; how many is not written.</summary>
    public static void Write(ColumnBytes bytes, double[] values)
    {
        var (mode, body) = Shortest(values);
        bytes.Raw([mode]);
        bytes.Unsigned((ulong)body.Length);
        bytes.Raw(body);
    }

    /// <summary>Passes over what <see cref="Write"/> wrote.</summary>
    public static void Pass(ByteReader reader)
    {
        reader.Byte();
        reader.Pass(reader.Count(reader.Unsigned()));
    }

    private static (byte Mode, byte[] Body) Shortest(double[] values)
    {
        var bits = values.Select(BitConverter.DoubleToInt64Bits).ToArray();
        if (bits.All(one => one == bits[0]))
            return (Constant, BitConverter.GetBytes(bits[0]));
        var xor = Planes(bits);
        if (Scaled(values, bits) is not var (decimals, scaled))
            return (Xor, xor);
        var (first, second) = (new ColumnBytes(), new ColumnBytes());
        first.Unsigned((ulong)decimals);
        second.Unsigned((ulong)decimals);
        var (before, step) = (0L, 0L);
        foreach (var value in scaled)
        {
            first.Signed(value - before);
            second.Signed(value - before - step);
            (step, before) = (value - before, value);
        }
        // What counts is the length after compression.
        return new (byte Mode, byte[] Body)[] { (Differences, first.ToArray()), (SecondDifferences, second.ToArray()), (Packed, Narrow(decimals, scaled)), (Xor, xor) }
            .MinBy(one => Packing.Pack(one.Body).Length);
    }

    // Differences above the least of them, each in as many bits as the widest needs: what is left of noise that no pattern shortens.
    private static byte[] Narrow(int decimals, long[] scaled)
    {
        var steps = scaled.Select((value, i) => i == 0 ? 0 : value - scaled[i - 1]).ToArray();
        var least = steps.Min();
        var width = 64 - System.Numerics.BitOperations.LeadingZeroCount((ulong)(steps.Max() - least));
        var bytes = new ColumnBytes();
        bytes.Unsigned((ulong)decimals);
        bytes.Signed(scaled[0]);
        bytes.Signed(least);
        bytes.Unsigned((ulong)width);
        var packed = new byte[(steps.Length * width + 7) / 8];
        var at = 0;
        foreach (var step in steps)
            for (var bit = 0; bit < width; bit++, at++)
                if (((ulong)(step - least) >> bit & 1) != 0)
                    packed[at >> 3] |= (byte)(1 << (at & 7));
        bytes.Raw(packed);
        return bytes.ToArray();
    }

    private static double[] Wide(ByteReader reader, int count)
    {
        var decimals = reader.Below(MostDecimals + 1);
        var (value, least, width) = (reader.Signed(), reader.Signed(), reader.Below(65));
        var packed = reader.Take(checked((int)(((long)count * width + 7) / 8)));
        var values = new double[count];
        var at = 0;
        for (var i = 0; i < count; i++)
        {
            var step = 0UL;
            for (var bit = 0; bit < width; bit++, at++)
                step |= (ulong)(packed[at >> 3] >> (at & 7) & 1) << bit;
            if (i > 0)
                value += (long)step + least;
            values[i] = value / Power(decimals);
        }
        return values;
    }

    /// <summary>Reads what <see cref="Write"/> wrote.</summary>
    /// <exception cref="FormatException">The bytes are no such values.</exception>
    public static double[] Read(ByteReader reader, int count)
    {
        var mode = reader.Byte();
        reader.Count(reader.Unsigned());
        var values = new double[count];
        switch (mode)
        {
            case Constant:
                values.AsSpan().Fill(BitConverter.UInt64BitsToDouble(reader.Fixed()));
                return values;
            case Differences or SecondDifferences:
                var decimals = reader.Below(MostDecimals + 1);
                var (value, step) = (0L, 0L);
                for (var i = 0; i < count; i++)
                {
                    step = mode == Differences ? reader.Signed() : step + reader.Signed();
                    value += step;
                    values[i] = value / Power(decimals);
                }
                return values;
            case Packed:
                return Wide(reader, count);
            case Xor:
                var planes = reader.Take(checked(count * 8));
                var before = 0UL;
                for (var i = 0; i < count; i++)
                {
                    var bits = 0UL;
                    for (var plane = 0; plane < 8; plane++)
                        bits |= (ulong)planes[plane * count + i] << (plane * 8);
                    values[i] = BitConverter.UInt64BitsToDouble(before ^= bits);
                }
                return values;
            default:
                throw ByteReader.Damaged();
        }
    }

    private static byte[] Planes(long[] bits)
    {
        var planes = new byte[bits.Length * 8];
        var before = 0L;
        for (var i = 0; i < bits.Length; i++)
        {
            var xor = bits[i] ^ before;
            before = bits[i];
            for (var plane = 0; plane < 8; plane++)
                planes[plane * bits.Length + i] = (byte)(xor >> (plane * 8));
        }
        return planes;
    }

    // The values as integers of the fewest decimals that give back every bit; null where there are none.
    private static (int Decimals, long[] Values)? Scaled(double[] values, long[] bits)
    {
        var scaled = new long[values.Length];
        for (var decimals = 0; decimals <= MostDecimals; decimals++)
        {
            var (power, fits) = (Power(decimals), true);
            for (var i = 0; fits && i < values.Length; i++)
            {
                var rounded = Math.Round(values[i] * power);
                fits = Math.Abs(rounded) < 1L << 53 && BitConverter.DoubleToInt64Bits((long)rounded / power) == bits[i];
                scaled[i] = fits ? (long)rounded : 0;
            }
            if (fits)
                return (decimals, scaled);
        }
        return null;
    }

    private static double Power(int decimals) => Powers[decimals];
}
