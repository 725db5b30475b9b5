//! The thresholds that checks judge by.

use trevlin_model::secret::{Grade, LengthClass};

/// Thresholds.
#[derive(Debug, Clone, Copy)]
pub struct Yardstick {
    /// A login password below this grade is weak.
    pub login_password_grade: Grade,
    /// A login password of a shorter class is weak whatever its grade (NIST SP 800-63B, 5.1.1.1: 8 characters).
    pub login_password_length: LengthClass,
}

impl Default for Yardstick {
    fn default() -> Self {
        Self { login_password_grade: Grade::Good, login_password_length: LengthClass::EightToFourteen }
    }
}
