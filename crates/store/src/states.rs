//! What rows may be: kinds and states, and which state of a final may follow which. The database keeps them as words.

use rusqlite::ToSql;
use rusqlite::types::{FromSql, FromSqlError, FromSqlResult, ToSqlOutput, ValueRef};
use serde::{Deserialize, Serialize};

macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$about])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ts_rs::TS)]
        #[serde(rename_all = "snake_case")]
        pub enum $name { $($(#[$doc])* $variant,)* }

        impl $name {
            pub fn word(self) -> &'static str {
                match self { $($name::$variant => $word,)* }
            }
        }

        impl ToSql for $name {
            fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
                Ok(self.word().into())
            }
        }

        impl FromSql for $name {
            fn column_result(value: ValueRef<'_>) -> FromSqlResult<Self> {
                match value.as_str()? {
                    $($word => Ok($name::$variant),)*
                    other => Err(FromSqlError::Other(format!("\"{other}\" is no {}", stringify!($name)).into())),
                }
            }
        }
    };
}

words! {
    /// How a proof came to be.
    ProofKind {
        Test = "test",
        /// Superblocks all over the frame, for the forecast.
        Pilot = "pilot",
        /// A short render for advice; it goes when it has told what it knows.
        Trial = "trial",
        Reference = "reference",
        /// From elsewhere.
        Picture = "picture",
    }
}

words! {
    /// How far a proof is on disk.
    ProofState {
        Running = "running",
        Done = "done",
        Stopped = "stopped",
    }
}

words! {
    /// What became of a final.
    FinalState {
        Waiting = "waiting",
        Running = "running",
        Paused = "paused",
        Delivered = "delivered",
        Cancelled = "cancelled",
        Failed = "failed",
    }
}

impl FinalState {
    /// From these a final is taken up again when it is asked for.
    pub(crate) const RESUMED: [FinalState; 3] = [FinalState::Paused, FinalState::Failed, FinalState::Cancelled];

    /// It stands in the queue.
    pub fn is_open(self) -> bool {
        matches!(self, FinalState::Waiting | FinalState::Running | FinalState::Paused)
    }

    /// From which states a final may come to this one.
    pub(crate) fn after(self) -> &'static [FinalState] {
        use FinalState::*;
        match self {
            // Put back by the end of the program or a full disk, topped up. A hand takes up others too: [`FinalState::RESUMED`].
            Waiting => &[Running, Delivered],
            Running => &[Waiting],
            Paused => &[Waiting, Running],
            // A top-up that comes to nothing leaves what was delivered before.
            Delivered | Cancelled => &[Waiting, Running, Paused],
            Failed => &[Waiting, Running],
        }
    }
}

words! {
    /// What a final holds when it cannot hold both.
    #[derive(Default)]
    Policy {
        /// It renders to the threshold, however long that takes.
        #[default]
        Cleanness = "cleanness",
        /// It ends within the budget; what is left is spent where grain is worst.
        Time = "time",
    }
}

words! {
    /// What can lie in the bin.
    BinKind {
        Shot = "shot",
        Proof = "proof",
        Final = "final",
        Scene = "scene",
        Environment = "environment",
        Table = "table",
        /// A draft overlay or a preset.
        Partial = "partial",
    }
}
