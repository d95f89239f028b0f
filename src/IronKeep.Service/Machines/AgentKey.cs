using System.Security.Cryptography;
using System.Security.Cryptography.X509Certificates;
using IronKeep.Core.Machines;
using IronKeep.Service.Basics;
using IronKeep.Stores.Posix;

namespace IronKeep.Service.Machines;

/// <summary>
/// The certificate by which agents know the service. Machines pin its key when they join, so a key that is lost or replaced cuts all of
/// them off: one that cannot be read is never replaced without a word.
/// </summary>
public static class AgentKey
{
    public const string KeyFile = "agent-key.pem";

    /// <summary>
    /// The certificate that is given, else the service's own, which is made with the first start. Throws
    /// <see cref="StartRefusedException"/>.
    /// </summary>
    public static X509Certificate2 Take(ServiceSettings settings, DateTimeOffset now)
    {
        if (settings.AgentCertificateFile.Length > 0)
            return Guarded(
                settings.AgentCertificateFile,
                "bring back the certificate and key that IronKeep:AgentCertificateFile and IronKeep:AgentCertificateKeyFile name",
                () => X509Certificate2.CreateFromPemFile(settings.AgentCertificateFile, settings.AgentCertificateKeyFile)
            );
        var file = Path.Combine(settings.DataFolder, KeyFile);
        return Guarded(
            file,
            "bring the file back from a copy of the data folder. Without it every machine must join anew: then remove it, and the next "
                + "start makes another",
            () =>
            {
                using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
                if (File.Exists(file))
                    key.ImportFromPem(File.ReadAllText(file));
                else
                    DurableFile.Write(file, key.ExportPkcs8PrivateKeyPem());
                return Certificate(key, settings.Machine, now);
            }
        );
    }

    /// <summary>
    /// A certificate of a key for itself. Nobody judges it by its name or its dates, only by its key; it begins early because clocks
    /// differ.
    /// </summary>
    public static X509Certificate2 Certificate(ECDsa key, string name, DateTimeOffset now)
    {
        var request = new CertificateRequest($"CN={name}", key, HashAlgorithmName.SHA256);
        return request.CreateSelfSigned(now.AddDays(-1), now.AddYears(20));
    }

    private static X509Certificate2 Guarded(string file, string wayOut, Func<X509Certificate2> take)
    {
        try
        {
            return take();
        }
        catch (Exception e) when (e is IOException or UnauthorizedAccessException or CryptographicException or ArgumentException)
        {
            throw new StartRefusedException($"the key that agents know the service by cannot be used ({file}: {e.Message}); {wayOut}");
        }
    }
}
