/** The words of this product that are not the trade's, and those that a newcomer asks for; by group, in the order in which they are met. */
export const GLOSSARY: [group: string, words: [word: string, means: string][]][] = [
  [
    'What is protected',
    [
      ['vessel', 'what is protected together: one table or a whole application, over one or more sources'],
      ['member', 'the part of a vessel that is in one database or one namespace'],
      ['protected, unprotected', 'taken by some vessel, or by none'],
      [
        'could lose, back within',
        'what a vessel promises: how much time of changes at most (RPO), and how long restoring all of it may take (RTO)',
      ],
      [
        'whole, at risk, broken, paused',
        'within its promises; restorable, but a promise is at risk; not restorable within its promises; on purpose not backed up',
      ],
    ],
  ],
  [
    'Backups',
    [
      ['point', 'a state of a vessel that is kept and can be restored'],
      ['full, differential, incremental', 'everything; what changed since the last full; what changed since the last point'],
      ['synthetic full', 'a full that is computed from an earlier one and the log, without reading the source'],
      ['moment', 'any time that can be entered: a point, or any transaction of a log'],
      ['quiesce, hold', 'to bring members to rest for a backup, and the stretch of time in which they are'],
      ['consistent together', 'all members were captured in one hold'],
      ['each consistent', 'every member is consistent in itself; they were not held together'],
      ['crash-consistent', 'copied as it was found, as after a crash'],
      ['read while in use', 'files were read while programs could write to them; they may be of different moments'],
    ],
  ],
  [
    'Restores',
    [
      ['rehearse', 'to do it without consequences: a restore that writes nothing, a hold without a backup'],
      ['scratch copy', 'a restored database that goes by itself when its time is over'],
      ['receipt', 'what a restore did, thing by thing, with the fingerprints of then and now'],
      ['proven, mended', 'restored, read back, and found equal to its point'],
      ['undo', 'to take back one transaction and leave everything that came after it'],
    ],
  ],
]
