using System.Security.Cryptography;
using System.Text;

namespace IronKeep.Service.Telling;

/// <summary>
/// Signs a request, so that its receiver knows that it comes from here, unchanged and of late: HTTP Message Signatures (RFC 9421) with
/// HMAC-SHA-256 over the method, the digest of the body (RFC 9530) and the time of sending.
/// </summary>
internal static class MessageSignature
{
    private const string Label = "ironkeep";

    /// <param name="request">The request; its content's type is part of what is signed.</param>
    /// <param name="body">The bytes that are sent as its content.</param>
    /// <param name="secret">The secret that the receiver shares, as text.</param>
    /// <param name="at">The time of sending, to the second.</param>
    public static void Add(HttpRequestMessage request, byte[] body, string secret, DateTimeOffset at)
    {
        var digest = $"sha-256=:{Convert.ToBase64String(SHA256.HashData(body))}:";
        var parameters =
            $"(\"@method\" \"content-digest\" \"content-type\");created={at.ToUnixTimeSeconds()};keyid=\"{Label}\";alg=\"hmac-sha256\"";
        var text =
            $"\"@method\": {request.Method.Method}\n"
            + $"\"content-digest\": {digest}\n"
            + $"\"content-type\": {request.Content!.Headers.ContentType}\n"
            + $"\"@signature-params\": {parameters}";
        var signature = HMACSHA256.HashData(Encoding.UTF8.GetBytes(secret), Encoding.UTF8.GetBytes(text));
        request.Headers.Add("Content-Digest", digest);
        request.Headers.Add("Signature-Input", $"{Label}={parameters}");
        request.Headers.Add("Signature", $"{Label}=:{Convert.ToBase64String(signature)}:");
    }
}
