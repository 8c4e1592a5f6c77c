namespace Skevin.Core.Blocks;

/// <summary>zstd (RFC 8878). Contexts are kept by thread, because making one costs more than a small block.</summary>
internal static class Packing
{
    /// <summary>Largest thing that is unpacked; a damaged length must not take all memory.</summary>
    public const int Longest = 512 << 20;

    [ThreadStatic] private static ZstdSharp.Compressor? _compressor;
    [ThreadStatic] private static ZstdSharp.Compressor? _quick;
    [ThreadStatic] private static ZstdSharp.Decompressor? _decompressor;

    public static byte[] Pack(ReadOnlySpan<byte> bytes) => (_compressor ??= new ZstdSharp.Compressor(3)).Wrap(bytes).ToArray();

    /// <summary>For what is soon packed anew.</summary>
    public static byte[] PackQuickly(ReadOnlySpan<byte> bytes) => (_quick ??= new ZstdSharp.Compressor(1)).Wrap(bytes).ToArray();

    /// <exception cref="FormatException">Not packed by <see cref="Pack"/>, or damaged.</exception>
    public static byte[] Unpack(ReadOnlySpan<byte> packed)
    {
        try
        {
            if (ZstdSharp.Decompressor.GetDecompressedSize(packed) > Longest)
                throw new FormatException("The block is larger than a block may be.");
            return (_decompressor ??= new ZstdSharp.Decompressor()).Unwrap(packed, Longest).ToArray();
        }
        catch (Exception broken) when (broken is ZstdSharp.ZstdException or OutOfMemoryException or ArgumentException or OverflowException)
        {
            throw new FormatException("The block cannot be unpacked: " + broken.Message, broken);
        }
    }
}
