//! Small systems of linear equations.

/// Solves A·x = b for each column b of `right`, by elimination with pivots; `None` where A is
/// singular.
pub(crate) fn solve<const N: usize, const M: usize>(
    mut left: [[f64; N]; N],
    mut right: [[f64; M]; N],
) -> Option<[[f64; M]; N]> {
    for column in 0..N {
        let pivot =
            (column..N).max_by(|a, b| left[*a][column].abs().total_cmp(&left[*b][column].abs()))?;
        left.swap(column, pivot);
        right.swap(column, pivot);
        let (row, of_row) = (left[column], right[column]);
        if row[column] == 0.0 || !row[column].is_finite() {
            return None;
        }
        for other in (0..N).filter(|other| *other != column) {
            let factor = left[other][column] / row[column];
            if factor == 0.0 {
                continue;
            }
            for (value, pivot) in left[other].iter_mut().zip(&row) {
                *value -= factor * pivot;
            }
            for (value, pivot) in right[other].iter_mut().zip(&of_row) {
                *value -= factor * pivot;
            }
        }
    }
    for (n, row) in right.iter_mut().enumerate() {
        for value in row {
            *value /= left[n][n];
        }
    }
    Some(right)
}

/// The inverse of a matrix.
pub(crate) fn inverse<const N: usize>(left: [[f64; N]; N]) -> Option<[[f64; N]; N]> {
    let mut unit = [[0.0; N]; N];
    for (n, row) in unit.iter_mut().enumerate() {
        row[n] = 1.0;
    }
    solve(left, unit)
}

/// The product of two matrices.
pub(crate) fn product<const A: usize, const B: usize, const C: usize>(
    left: &[[f64; B]; A],
    right: &[[f64; C]; B],
) -> [[f64; C]; A] {
    left.map(|row| {
        let mut made = [0.0; C];
        for (x, other) in row.iter().zip(right) {
            if *x != 0.0 {
                made.iter_mut().zip(other).for_each(|(sum, y)| *sum += x * y);
            }
        }
        made
    })
}

/// The product of a matrix and a column.
pub(crate) fn times<const A: usize, const B: usize>(
    left: &[[f64; B]; A],
    right: &[f64; B],
) -> [f64; A] {
    left.map(|row| row.iter().zip(right).map(|(x, y)| x * y).sum())
}

/// Columns for rows.
pub(crate) fn transposed<const A: usize, const B: usize>(matrix: &[[f64; B]; A]) -> [[f64; A]; B] {
    std::array::from_fn(|b| std::array::from_fn(|a| matrix[a][b]))
}

/// x·M·x of a matrix.
pub(crate) fn square_of<const N: usize>(matrix: &[[f64; N]; N], along: &[f64; N]) -> f64 {
    times(matrix, along).iter().zip(along).map(|(x, y)| x * y).sum()
}
