//! Values that must not be shown: private keys and shared secrets.

use zeroize::Zeroize;

/// Holds a secret. Its `Debug` form is `[redacted]`, it has no `Display` and cannot be serialized. It is wiped from memory when it is
/// dropped.
#[derive(Clone)]
pub struct Secret<T: Zeroize>(T);

impl<T: Zeroize> Drop for Secret<T> {
    fn drop(&mut self) {
        self.0.zeroize();
    }
}

impl<T: Zeroize> Secret<T> {
    /// Wraps a value that must not be printed.
    pub fn new(value: T) -> Self {
        Secret(value)
    }

    /// Returns the value, for the one place that uses it.
    pub fn reveal(&self) -> &T {
        &self.0
    }
}

impl<T: Zeroize> std::fmt::Debug for Secret<T> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("[redacted]")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn never_prints_what_it_holds() {
        assert_eq!(format!("{:?}", Secret::new("lamp oil".to_owned())), "[redacted]");
    }
}
