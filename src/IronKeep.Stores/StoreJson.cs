using System.Text.Json;
using System.Text.Json.Serialization;
using IronKeep.Stores.Keys;
using IronKeep.Stores.Plain;
using IronKeep.Stores.Pooled;

namespace IronKeep.Stores;

/// <summary>How the small files of a store are read and written: made when the product is built, so that any program can use it.</summary>
[JsonSourceGenerationOptions(JsonSerializerDefaults.Web, GenerationMode = JsonSourceGenerationMode.Metadata)]
[JsonSerializable(typeof(CopyNote))]
[JsonSerializable(typeof(CopyRecord))]
[JsonSerializable(typeof(KeyWrap))]
[JsonSerializable(typeof(LeaseNote))]
[JsonSerializable(typeof(LeavingList))]
[JsonSerializable(typeof(PlainHead))]
[JsonSerializable(typeof(StoreHead))]
internal sealed partial class StoreJson : JsonSerializerContext;
