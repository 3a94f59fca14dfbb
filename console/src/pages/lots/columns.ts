/** What a header may mean: the columns that the service knows. */
export const identifierColumns = ['serial', 'imei', 'meid', 'eid', 'mac', 'uuid', 'fingerprint']
export const knownColumns = [
  ...identifierColumns,
  'platform',
  'maker',
  'model',
  'product_code',
  'ownership',
  'order_name',
  'purchase_order',
  'supplier',
  'purchased_on',
  'warranty_until',
  'site',
  'department',
  'person',
  'asset_tag',
  'name',
  'tags',
  'note',
]

/** Which remedies a conflict has, in the words of a button. */
export const remedies: Record<string, [remedy: 'merge' | 'take_back', label: string]> = {
  two_devices: ['merge', 'Merge the devices'],
  serial_differs: ['merge', 'Keep both serial numbers'],
  retired_device: ['take_back', 'Take the devices back'],
  flagged_device: ['take_back', 'Clear the reports'],
}
