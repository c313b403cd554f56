using TideStep.Storage;
using Xunit;

namespace TideStep.Storage.Tests;

/// <summary>People, programs, sessions and the record, on both databases.</summary>
public abstract partial class StoreContract
{
    private static StoredRecordLine Line(string who, string about, int day = 0) =>
        new(0, Now.AddDays(day), who, about, $"{{\"what\":\"{about}\"}}");

    // The server's database is that of all tests.
    private void Empty()
    {
        Change("delete from access");
        Change("delete from record");
        Change("delete from counters where name = 'record'");
    }

    [Fact]
    public async Task Of_two_who_change_a_person_at_once_one_is_told()
    {
        Empty();
        Assert.True(await Store.SaveAccessAsync(new StoredAccess("person", "p1", 1, "{}"), default));
        Assert.False(await Store.SaveAccessAsync(new StoredAccess("person", "p1", 1, "{}"), default));
        Assert.True(await Store.SaveAccessAsync(new StoredAccess("person", "p1", 2, "{\"a\":1}"), default));
        Assert.False(await Store.SaveAccessAsync(new StoredAccess("person", "p1", 2, "{\"b\":1}"), default));
        Assert.Equal("{\"a\":1}", (await Store.FindAccessAsync("person", "p1", default))!.Body);
        Assert.Null(await Store.FindAccessAsync("token", "p1", default));
        await Store.ForgetAccessAsync("person", "p1", default);
        Assert.Empty(await Store.AccessAsync("person", default));
    }

    [Fact]
    public async Task A_person_who_was_changed_by_hand_does_not_come_in()
    {
        Empty();
        await Store.SaveAccessAsync(new StoredAccess("person", "p1", 1, "{\"roles\":[]}"), default);
        Change("update access set body = '{\"roles\":[\"administer\"]}'");
        await Assert.ThrowsAsync<DamagedRecordException>(() => Store.FindAccessAsync("person", "p1", default));
        // Everybody else does.
        await Store.SaveAccessAsync(new StoredAccess("person", "p2", 1, "{}"), default);
        Assert.Equal(
            [("p1", true), ("p2", false)],
            (await Store.AccessAsync("person", default)).Select(r => (r.Id, r.Damaged))
        );
    }

    [Fact]
    public async Task The_record_is_found_by_who_about_what_and_since_when()
    {
        Empty();
        foreach (var (who, about, day) in new[] { ("a", "runs/1", 0), ("b", "runs/1", 1), ("a", "runs/10", 2) })
            await Store.AppendRecordAsync(Line(who, about, day), default);
        async Task<List<long>> Found(string? who, string? about, int? since, long? before = null) =>
            [
                .. (
                    await Store.RecordAsync(who, about, since is { } d ? Now.AddDays(d) : null, before, 10, default)
                ).Select(l => l.Number),
            ];
        Assert.Equal([3, 2, 1], await Found(null, null, null));
        Assert.Equal([3, 1], await Found("a", null, null));
        Assert.Equal([2, 1], await Found(null, "runs/1", null));
        Assert.Equal([3, 2], await Found(null, null, 1));
        Assert.Equal([1], await Found("a", null, null, before: 3));
    }

    [Theory]
    [InlineData("update record set body = '{}' where number = 2", 2)]
    [InlineData("update record set who = 'x' where number = 3", 3)]
    [InlineData("update record set at = '2020-01-01T00:00:00.0000000Z' where number = 1", 1)]
    [InlineData("delete from record where number = 2", 3)]
    [InlineData("update record set cut = 'x' where number = 2", 2)]
    public async Task What_was_changed_in_the_record_is_found(string how, long where)
    {
        Empty();
        for (var i = 0; i < 4; i++)
            await Store.AppendRecordAsync(Line("a", $"runs/{i}"), default);
        Assert.All(await Store.RecordAfterAsync(0, 10, default), l => Assert.Null(l.Damaged));
        Change(how);
        var lines = await Store.RecordAfterAsync(0, 10, default);
        Assert.Equal(where, lines.First(l => l.Damaged is not null).Number);
        // A page of its own tells the same.
        Assert.Contains(await Store.RecordAfterAsync(where - 1, 1, default), l => l.Damaged is not null);
    }

    [Fact]
    public async Task What_is_taken_away_from_the_record_leaves_its_number_and_a_chain_that_holds()
    {
        Empty();
        for (var day = 0; day < 6; day++)
            await Store.AppendRecordAsync(Line("a", $"runs/{day}", day), default);
        Assert.Equal(2, await Store.ForgetRecordAsync(Now.AddDays(4), 2, default));
        Assert.Equal(2, await Store.ForgetRecordAsync(Now.AddDays(4), 3, default));
        Assert.Equal(0, await Store.ForgetRecordAsync(Now.AddDays(4), 3, default));
        var lines = await Store.RecordAfterAsync(0, 10, default);
        Assert.Equal([4, 5, 6], lines.Select(l => l.Number));
        Assert.All(lines, l => Assert.Null(l.Damaged));
        Assert.True(lines[0].Summary);
        Assert.Contains("\"removed\":4", lines[0].Body);
        Assert.Equal(7, await Store.AppendRecordAsync(Line("a", "runs/6", 6), default));
        Assert.Null((await Store.RecordAfterAsync(6, 1, default))[0].Damaged);
        Change("update record set body = replace(body, '4', '1') where number = 4");
        Assert.NotNull((await Store.RecordAfterAsync(0, 1, default))[0].Damaged);
    }

    [Fact]
    public async Task Many_who_act_at_once_each_get_a_line()
    {
        Empty();
        await Task.WhenAll(
            Enumerable.Range(0, 40).Select(i => Store.AppendRecordAsync(Line($"p{i % 3}", $"runs/{i}"), default))
        );
        var lines = await Store.RecordAfterAsync(0, 100, default);
        Assert.Equal(Enumerable.Range(1, 40).Select(n => (long)n), lines.Select(l => l.Number));
        Assert.All(lines, l => Assert.Null(l.Damaged));
    }
}
