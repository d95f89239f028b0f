namespace IronKeep.Service.Tests;

/// <summary>A test of what only a catalogue in a file has, such as the file itself.</summary>
internal sealed class FileCatalogueFactAttribute : FactAttribute
{
    public FileCatalogueFactAttribute() => Skip = PostgresServer.IsWanted ? "the catalogue is in PostgreSQL" : null!;
}
