namespace TideStep.Service.Routes;

/// <summary>A small file that comes along with a request: its name and its bytes, as base64 in JSON.</summary>
public sealed record UploadedFile(string Name, byte[] Content);
