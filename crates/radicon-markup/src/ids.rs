//! Numbers of the things in a list, each of a type of its own, so that none is taken for another.

/// A number, and the lists that it numbers.
#[macro_export]
macro_rules! id {
    ($(#[$doc:meta])* $vis:vis $id:ident: $($list:ty),*) => {
        $(#[$doc])*
        #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
        $vis struct $id(pub u32);

        #[allow(dead_code, reason = "not every list is used in every way")]
        impl $id {
            /// The number of a place.
            pub const fn at(place: usize) -> Self {
                Self(place as u32)
            }

            /// The place in the list, 0-based.
            pub const fn index(self) -> usize {
                self.0 as usize
            }

            /// The number after it.
            #[must_use]
            pub const fn next(self) -> Self {
                Self(self.0 + 1)
            }

            /// The number before it; the first has none before it.
            #[must_use]
            pub const fn previous(self) -> Self {
                Self(self.0.saturating_sub(1))
            }

            /// The numbers from it on and before another.
            pub fn to(self, end: Self) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
                (self.0..end.0).map(Self)
            }

            /// The numbers of as many things.
            pub fn all(count: usize) -> impl DoubleEndedIterator<Item = Self> + ExactSizeIterator + Clone {
                (0..count as u32).map(Self)
            }

            /// Things with their numbers.
            pub fn each<T>(things: &[T]) -> impl DoubleEndedIterator<Item = (Self, &T)> + ExactSizeIterator + Clone {
                things.iter().enumerate().map(|(at, thing)| (Self::at(at), thing))
            }
        }

        $($crate::numbers!($id: $list);)*
    };
}

/// One more list that a number numbers.
#[macro_export]
macro_rules! numbers {
    ($id:ident: $list:ty) => {
        impl std::ops::Index<$id> for [$list] {
            type Output = $list;

            fn index(&self, id: $id) -> &$list {
                &self[id.0 as usize]
            }
        }

        impl std::ops::IndexMut<$id> for [$list] {
            fn index_mut(&mut self, id: $id) -> &mut $list {
                &mut self[id.0 as usize]
            }
        }

        impl std::ops::Index<$id> for Vec<$list> {
            type Output = $list;

            fn index(&self, id: $id) -> &$list {
                &self[id.0 as usize]
            }
        }

        impl std::ops::IndexMut<$id> for Vec<$list> {
            fn index_mut(&mut self, id: $id) -> &mut $list {
                &mut self[id.0 as usize]
            }
        }
    };
}
