using System.Text;
using System.Text.Encodings.Web;

namespace GentleCourier.Events;

/// <summary>
/// Encodes as another does, and refuses half of a surrogate pair, which others replace in silence. It sees each text as
/// it is.
/// </summary>
internal sealed class StrictEncoder(JavaScriptEncoder inner) : JavaScriptEncoder
{
    public override int MaxOutputCharactersPerInputCharacter => inner.MaxOutputCharactersPerInputCharacter;

    public override unsafe int FindFirstCharacterToEncode(char* text, int textLength)
    {
        var whole = new ReadOnlySpan<char>(text, textLength);
        for (var i = 0; i < whole.Length; i++)
        {
            if (!char.IsSurrogate(whole[i])) continue;
            if (Rune.DecodeFromUtf16(whole[i..], out _, out var used) != System.Buffers.OperationStatus.Done)
                throw new FormatException($"half of a surrogate pair (U+{(int)whole[i]:X4}, at {i}) is no text");
            i += used - 1;
        }
        return inner.FindFirstCharacterToEncode(text, textLength);
    }

    public override unsafe bool TryEncodeUnicodeScalar(
        int unicodeScalar, char* buffer, int bufferLength, out int numberOfCharactersWritten) =>
        inner.TryEncodeUnicodeScalar(unicodeScalar, buffer, bufferLength, out numberOfCharactersWritten);

    public override bool WillEncode(int unicodeScalar) => inner.WillEncode(unicodeScalar);
}
