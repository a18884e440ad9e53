//! Numbers of the things that are learned from, so that none is taken for another.

/// A number of its own, and the lists that it numbers.
macro_rules! number {
    ($(#[$doc:meta])* $id:ident: $($list:ty),*) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub(in crate::learn) struct $id(pub usize);

        impl $id {
            /// The numbers of as many things.
            #[allow(dead_code, reason = "not every list is counted through")]
            pub fn all(count: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
                (0..count).map(Self)
            }

            /// Things with their numbers.
            pub fn each<T>(things: &[T]) -> impl DoubleEndedIterator<Item = (Self, &T)> + ExactSizeIterator + Clone {
                things.iter().enumerate().map(|(at, thing)| (Self(at), thing))
            }
        }

        $($crate::learn::ids::numbers!($id: $list);)*
    };
}

/// One more list that a number numbers.
macro_rules! numbers {
    ($id:ident: $list:ty) => {
        impl std::ops::Index<$id> for [$list] {
            type Output = $list;

            fn index(&self, id: $id) -> &$list {
                &self[id.0]
            }
        }

        impl std::ops::Index<$id> for Vec<$list> {
            type Output = $list;

            fn index(&self, id: $id) -> &$list {
                &self[id.0]
            }
        }
    };
}

pub(in crate::learn) use {number, numbers};
