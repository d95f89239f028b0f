namespace IronKeep.Service.Tests;

/// <summary>A test of what only a catalogue in a file has, such as the file itself.</summary>
internal sealed class FileCatalogueFactAttribute : FactAttribute
{
    public FileCatalogueFactAttribute() => Skip = PostgresServer.IsWanted ? "the catalogue is in PostgreSQL" : null!;
}

/// <summary>A test of what matters only where several services share a catalogue.</summary>
internal sealed class SharedCatalogueFactAttribute : FactAttribute
{
    public SharedCatalogueFactAttribute() => Skip = PostgresServer.IsWanted ? null! : "the catalogue is a file of one service";
}
