namespace TideStep.Core.Access;

/// <summary>As what somebody came in.</summary>
public enum CallerKind
{
    /// <summary>With the installation's own key, or by a link that was made with it.</summary>
    Local,
    Person,
    Program,
}
