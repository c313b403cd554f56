using System.Collections.Immutable;
using System.Reflection;
using System.Text.Json;
using TideStep.Core.Documents;
using TideStep.Core.Plans;

namespace TideStep.Core.Runs;

/// <summary>A run's state as a text, so that who takes a run up need not fold all of its journal again. It is a copy:
/// the journal stays the truth, and a text of another shape than this program's is of no use and no harm.</summary>
/// <remarks>It holds every field of <see cref="RunState"/> by its name; what is added there is in it without a word
/// here, and changes <see cref="Shape"/>.</remarks>
public static class RunMemento
{
    private static readonly JsonSerializerOptions Options = Json.Configure(
        new JsonSerializerOptions { IncludeFields = true }
    );

    // The plan is kept by itself, and how members stand is reckoned from the steps.
    private static readonly string[] Elsewhere = ["<Plan>k__BackingField", "_tide"];

    private static readonly ImmutableArray<Slot> Slots =
    [
        .. typeof(RunState)
            .GetFields(BindingFlags.Instance | BindingFlags.NonPublic | BindingFlags.Public)
            .Where(f => !Elsewhere.Contains(f.Name))
            .OrderBy(f => f.Name, StringComparer.Ordinal)
            .Select(Slot.Of),
    ];

    /// <summary>What tells this program's shape from every other.</summary>
    public static string Shape { get; } = Shapes.Of(Slots.Select(s => (s.Name, s.Kept)));

    /// <summary>What the state is at this moment; nothing in it changes afterwards. To be taken while nothing changes
    /// the state, and quick.</summary>
    public static ImmutableArray<object?> Copy(RunState state) => [.. Slots.Select(s => s.Copy(state))];

    /// <summary>The copy as a text.</summary>
    public static byte[] Write(ImmutableArray<object?> copy)
    {
        var text = new System.Buffers.ArrayBufferWriter<byte>();
        using (var writer = new Utf8JsonWriter(text))
        {
            writer.WriteStartObject();
            foreach (var (slot, value) in Slots.Zip(copy))
            {
                writer.WritePropertyName(slot.Name);
                JsonSerializer.Serialize(writer, value, slot.Kept, Options);
            }
            writer.WriteEndObject();
        }
        return text.WrittenSpan.ToArray();
    }

    /// <summary>The state that a text of this shape holds.</summary>
    /// <param name="plan">The plan of the run.</param>
    /// <exception cref="JsonException">It is none.</exception>
    public static RunState Read(Plan plan, ReadOnlySpan<byte> text)
    {
        var state = new RunState(plan);
        using var document = JsonDocument.Parse(text.ToArray());
        foreach (var slot in Slots)
            slot.Put(state, document.RootElement.GetProperty(slot.Name).Deserialize(slot.Kept, Options));
        return state;
    }

    /// <summary>A field, and as what it is kept: collections that grow are kept as arrays of what is in them.</summary>
    private abstract class Slot(FieldInfo its)
    {
        public string Name => its.Name;
        public abstract Type Kept { get; }

        protected FieldInfo Field => its;

        public abstract object? Copy(RunState state);

        public abstract void Put(RunState state, object? value);

        public static Slot Of(FieldInfo field)
        {
            var type = field.FieldType;
            var item = type.GetInterfaces()
                .Append(type)
                .Where(i => i.IsGenericType && i.GetGenericTypeDefinition() == typeof(ICollection<>))
                .Select(i => i.GetGenericArguments()[0])
                .FirstOrDefault();
            var grows =
                item is not null
                && type.IsClass
                && type.Namespace == "System.Collections.Generic"
                && type != typeof(string);
            if (grows)
                return (Slot)Activator.CreateInstance(typeof(Growing<>).MakeGenericType(item!), field)!;
            return type == typeof(IReadOnlySet<string>) ? new Names(field) : new Single(field);
        }
    }

    private sealed class Single(FieldInfo its) : Slot(its)
    {
        public override Type Kept => Field.FieldType;

        public override object? Copy(RunState state) => Field.GetValue(state);

        public override void Put(RunState state, object? value) => Field.SetValue(state, value);
    }

    private sealed class Names(FieldInfo its) : Slot(its)
    {
        public override Type Kept => typeof(string[]);

        public override object? Copy(RunState state) => ((IReadOnlySet<string>)Field.GetValue(state)!).ToArray();

        public override void Put(RunState state, object? value) =>
            Field.SetValue(state, ((string[])value!).ToHashSet());
    }

    // The collection itself stays, with its way of comparing.
    private sealed class Growing<T>(FieldInfo its) : Slot(its)
    {
        public override Type Kept => typeof(T[]);

        public override object? Copy(RunState state) => ((ICollection<T>)Field.GetValue(state)!).ToArray();

        public override void Put(RunState state, object? value)
        {
            var into = (ICollection<T>)Field.GetValue(state)!;
            into.Clear();
            foreach (var item in (T[])value!)
                into.Add(item);
        }
    }
}
