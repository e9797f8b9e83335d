package grow

// Revision counts the changes of the rows of edition 1, which is provisional: the same plan gives other
// rows in another revision. The journal records it, so that a load is never compared with rows that it
// did not write. It grows with every change of golden rows.
const Revision = 2
