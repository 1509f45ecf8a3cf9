//! The version of Apache that conditions are held against.

/// A version in its three parts.
pub(super) type Version = [u32; 3];

/// The programs in which the version stands. A build of one's own has it below its root.
pub(super) const PROGRAMS: [&str; 3] = ["/usr/sbin/apache2", "/usr/sbin/httpd", "bin/httpd"];
/// What a program is taken for that cannot be read: packages of today have it or a later one.
pub(super) const USUAL: Version = [2, 4, 62];
/// What stands before the version.
const MARK: &[u8] = b"Apache/";

/// Returns the version that stands in a program.
pub(super) fn version_in(program: &[u8]) -> Option<Version> {
    let marks = program.windows(MARK.len()).enumerate().filter(|(_, bytes)| *bytes == MARK);
    marks.map(|(at, _)| &program[at + MARK.len()..]).find_map(|text| {
        let length = text.iter().take(20).take_while(|byte| byte.is_ascii_digit() || **byte == b'.').count();
        let parts = std::str::from_utf8(&text[..length]).ok()?.split('.').map(|part| part.parse().ok());
        parts.collect::<Option<Vec<u32>>>()?.try_into().ok()
    })
}

/// Returns whether a version is as a condition has it; `None` for a condition of another form.
pub(super) fn version_holds(has: Version, operator: &str, version: &str) -> Option<bool> {
    let mut wanted: Vec<u32> = version.split('.').map(|part| part.parse().ok()).collect::<Option<_>>()?;
    let given = wanted.len();
    wanted.resize(3, 0);
    let order = has[..given.min(3)].cmp(&wanted[..given.min(3)]);
    Some(match operator {
        "=" | "==" => order.is_eq(),
        ">" => order.is_gt(),
        ">=" => order.is_ge(),
        "<" => order.is_lt(),
        "<=" => order.is_le(),
        _ => return None,
    })
}
