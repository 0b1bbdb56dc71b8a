//! Enums and the words that stand for them in files, addresses and the database: said once, read both ways.

/// Gives an enum its words.
///
/// ```
/// #[derive(Clone, Copy, Debug, PartialEq)]
/// enum Season { Early, Late }
/// tiller_core::words!(Season: Early "early", Late "late");
///
/// assert_eq!(Season::Late.word(), "late");
/// assert_eq!(Season::read("Early"), Some(Season::Early));
/// assert_eq!(Season::read("winter"), None);
/// assert_eq!(Season::ALLOWED, "one of early late");
/// ```
#[macro_export]
macro_rules! words {
    ($type:ident: $($variant:ident $word:literal),* $(,)?) => {
        #[allow(dead_code)]
        impl $type {
            /// All of them, in the order of lists.
            pub const ALL: [Self; [$($word),*].len()] = [$(Self::$variant),*];
            /// What may be read, for errors.
            pub const ALLOWED: &'static str = concat!("one of" $(, " ", $word)*);

            /// The word in files, addresses and the database.
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),* }
            }

            /// By its word, in letters of either case.
            pub fn read(word: &str) -> Option<Self> {
                Self::ALL.into_iter().find(|x| x.word().eq_ignore_ascii_case(word))
            }
        }
    };
}

/// Lets a query read an enum with words: as text, since a type of the database's own would be looked up by name on
/// every new connection. Needs `sqlx`.
#[macro_export]
macro_rules! stored {
    ($type:ident) => {
        impl sqlx::Type<sqlx::Postgres> for $type {
            fn type_info() -> sqlx::postgres::PgTypeInfo {
                <str as sqlx::Type<sqlx::Postgres>>::type_info()
            }
        }

        impl<'r> sqlx::Decode<'r, sqlx::Postgres> for $type {
            fn decode(
                value: sqlx::postgres::PgValueRef<'r>,
            ) -> Result<Self, sqlx::error::BoxDynError> {
                let word = <&str as sqlx::Decode<sqlx::Postgres>>::decode(value)?;
                Self::read(word).ok_or_else(|| format!("‘{word}’ is not {}", Self::ALLOWED).into())
            }
        }
    };
}
