using Microsoft.AspNetCore.OpenApi;

namespace IronKeep.Service.Basics;

/// <summary>What the OpenAPI document says beyond what the endpoints tell by themselves.</summary>
internal static class OpenApiRules
{
    public static void Apply(OpenApiOptions options)
    {
        // A value that may be missing is told where it stands, so that the word itself is never said to be null.
        options.CreateSchemaReferenceId = type =>
            Nullable.GetUnderlyingType(type.Type) is { IsEnum: true } ? null : OpenApiOptions.CreateDefaultSchemaReferenceId(type);
        options.AddDocumentTransformer(
            (document, _, _) =>
            {
                document.Info.Title = "Iron Keep";
                document.Info.Version = "v1";
                document.Info.Description =
                    "The API of the Iron Keep service. Errors are RFC 9457 problem details; times are RFC 3339 in UTC; sizes are bytes.";
                document.Servers?.Clear();
                return Task.CompletedTask;
            }
        );
    }
}
